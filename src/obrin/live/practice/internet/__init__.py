"""The practice internet: cables, weather, captures, and its process."""
