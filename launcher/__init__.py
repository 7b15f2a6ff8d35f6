"""What ``./lumtar`` does before anything is installed: standard library only."""
