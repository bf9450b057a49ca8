"""A gateway's configuration as YANG instance data in JSON (RFC 7951): a file for each module.

Each file has the values that its module speaks of, `encode` and `decode` side by side, and for
whatever is encoded, `decode` gives the same value back. `device.py` puts them together.
"""
