"""Measurements: arrays and a sample rate in, values with uncertainty out."""
