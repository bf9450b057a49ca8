"""Questions about the address space of a settled design."""
