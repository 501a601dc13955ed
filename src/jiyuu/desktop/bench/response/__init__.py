"""The Response step."""
