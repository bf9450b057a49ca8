"""Clouds and gateways that a person configures: the same steps, shown and asked for."""
