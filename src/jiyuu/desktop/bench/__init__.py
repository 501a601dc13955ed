"""One package a step of the walk: its view and its presenter."""
