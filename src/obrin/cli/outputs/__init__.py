"""The shapes of what commands print with --json, from which schemas and their page are made."""
