"""What a filter is like to listen to, in numbers: descriptors, how filters compare, and why."""
