"""Figures shared by the steps."""
