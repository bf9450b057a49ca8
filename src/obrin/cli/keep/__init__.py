"""Commands for what runs: changes, dates, pictures."""
