"""Thin commands over the layers below."""
