"""A change carried out step by step at the real ends."""
