"""Fuzzing of everything that reads bytes or text from outside."""
