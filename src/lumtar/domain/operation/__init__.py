"""Lumtar's own processes and secrets."""
