"""Designs made ready to be drawn."""
