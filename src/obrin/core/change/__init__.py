"""Plans a change from the built design to the wanted one: single steps, the states between them,
and an order in which the outcome of each is known."""
