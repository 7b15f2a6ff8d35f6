"""Alarms as RFC 8632 understands them: a resource, a type, a severity, and the history of its changes."""
