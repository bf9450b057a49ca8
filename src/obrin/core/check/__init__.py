"""Findings on a settled design: one small module per theme; `whole` runs them all."""
