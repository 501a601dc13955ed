"""The Self-oscillation step."""
