"""Certificates: what a gateway's must hold, and why a chain is not accepted."""
