"""Commands that make a design and fill its blanks."""
