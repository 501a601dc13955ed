"""The Resonance step."""
