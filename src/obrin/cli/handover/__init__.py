"""Commands that hand over: packs, keys, certificates, and what was entered against what was
meant."""
