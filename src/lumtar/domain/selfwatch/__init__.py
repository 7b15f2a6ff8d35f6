"""Lumtar looks at itself: what is not being done, what it means, and who is told."""
