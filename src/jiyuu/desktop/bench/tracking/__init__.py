"""The Tracking step."""
