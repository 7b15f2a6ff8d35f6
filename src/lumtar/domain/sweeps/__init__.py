"""Sweeps: recurring scans of address ranges, what they found, and what is done with it."""
