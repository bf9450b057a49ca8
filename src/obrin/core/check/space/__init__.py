"""Checks of addresses, ranges, AS numbers and summaries."""
