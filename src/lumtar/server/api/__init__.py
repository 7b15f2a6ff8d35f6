"""The API under /api/v1: one module a subject, assembled in root.py."""
