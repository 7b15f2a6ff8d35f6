"""What was counted and measured, when."""
