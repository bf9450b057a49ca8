"""Checks of what both ends of a tunnel have to agree on, and of the devices there."""
