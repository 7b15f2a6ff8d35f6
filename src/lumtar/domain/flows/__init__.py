"""Flows: who exports them, and what was exchanged over each interface."""
