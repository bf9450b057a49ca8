"""Both ends of each tunnel: records, what was said of them, agreement and mirror proof."""
