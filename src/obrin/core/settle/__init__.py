"""How blanks are filled, and why each value was taken."""
