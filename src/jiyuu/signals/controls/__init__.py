"""Controls of a patch: each is known in closed form at every instant, so that no rate and no block has a say in it."""
