"""Tunnels of a router: ESP in and out, path MTU, BFD, spares, counters."""
