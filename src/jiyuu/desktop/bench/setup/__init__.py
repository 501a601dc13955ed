"""The Setup step."""
