"""The job's rules and computation: pure, typed, vectorised. No Django, no sockets, no clock of its own."""
