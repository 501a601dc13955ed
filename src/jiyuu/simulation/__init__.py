"""Large-signal simulation: network + signals -> volts."""
