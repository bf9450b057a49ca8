"""A typist: eyes and hands. Reads what people are handed, types it into the fields of a screen, and
knows nothing else. `device.py` says what a device with these fields does."""
