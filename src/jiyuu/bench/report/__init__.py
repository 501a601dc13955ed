"""Reports: a sheet says what stands in one, printed makes it HTML or PDF; a file for each kind."""
