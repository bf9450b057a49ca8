"""How each kind of blank is filled; `obrin.core.design.settle` calls these in their order."""
