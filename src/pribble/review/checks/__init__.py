"""The checks, one module a subject."""
