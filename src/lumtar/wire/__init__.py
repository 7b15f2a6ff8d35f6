"""Protocols: bytes to core types and back, one protocol a module."""
