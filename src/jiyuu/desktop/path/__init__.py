"""The signal path: what stands round the filter in hand, seen and edited where it stands."""
