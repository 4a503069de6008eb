"""MIME messages, built from nothing but data; nothing here knows of templates."""
