"""The window. The only place that imports Qt."""
