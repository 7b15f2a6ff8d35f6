"""Paths: measured ways between two ends; what probes over them come to."""
