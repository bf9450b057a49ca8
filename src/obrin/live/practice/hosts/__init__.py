"""Hosts of the practice world: asked, lent to programs, or played by them."""
