"""What drives a unit and listens to it: simulated, through files."""
