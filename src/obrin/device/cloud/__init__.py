"""A cloud's data plane: gateway instances, networks, hubs and their route tables."""
