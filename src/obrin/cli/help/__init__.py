"""What the design file, the output of commands, and algorithms are."""
