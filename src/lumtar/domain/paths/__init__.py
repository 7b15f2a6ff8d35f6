"""Paths: measured ways between two ends, and what probes over them came to."""
