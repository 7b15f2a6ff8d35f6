"""What is watched, what is wrong, who was told."""
