"""What was entered, held against what was meant."""
