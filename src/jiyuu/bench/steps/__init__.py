"""The steps of the walk, one file each, found by looking into this package."""
