"""The receiver: what devices send of their own accord."""
