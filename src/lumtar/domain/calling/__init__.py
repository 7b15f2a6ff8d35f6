"""Who is called, and by which channel."""
