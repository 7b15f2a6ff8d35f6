"""The prober: it sends test packets over paths, answers those of others, and stores what they come to."""
