"""What holds once every blank has a value, and how it is built from design and choices."""
