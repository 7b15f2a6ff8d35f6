"""What happened, on one time axis."""
