"""Tests of the room ``demo``."""
