"""Django's PostgreSQL back end with a pool that recovers at once when the database was away."""
