"""From the design that is built to the one that is wanted: elementary changes, the states between,
and an order in which every one of them is known."""
