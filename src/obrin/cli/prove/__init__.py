"""Commands that find out what would happen, before anything exists."""
