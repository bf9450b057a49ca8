"""Everything that draws."""
