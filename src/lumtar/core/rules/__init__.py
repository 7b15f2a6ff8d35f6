"""What is watched, and when it becomes an alarm."""
