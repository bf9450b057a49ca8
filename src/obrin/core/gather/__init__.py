"""Taking in what exists: tables of ranges and of sites, as text, to entries of a design."""
