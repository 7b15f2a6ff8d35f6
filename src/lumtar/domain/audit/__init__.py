"""Who changed what, from what to what."""
