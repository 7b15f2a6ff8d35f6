"""What hangs on what: neighbours that devices tell of, and the links that follow."""
