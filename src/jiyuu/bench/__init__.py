"""The walk without a window: the filter as it stands, the steps, their runs, what is kept of them."""
