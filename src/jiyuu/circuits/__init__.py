"""Filters as networks: the one description everything else reads."""
