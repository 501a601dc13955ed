"""The patch: a signal path of stages as one document, what becomes one network of it, and how it answers."""
