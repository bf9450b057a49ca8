"""Checks of what is due, accepted, ended, or under change."""
