"""Measurements: ``./lumtar bench``."""
