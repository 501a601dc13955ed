"""Sources in volts and control voltages."""
