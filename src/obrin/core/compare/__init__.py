"""Compares what was entered at a device with what its sheet says."""
