"""Colours, type and spacing; nothing else in the window sets them."""
