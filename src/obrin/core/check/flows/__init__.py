"""Checks of routes, reach, redundancy and loads."""
