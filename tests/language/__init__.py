"""Tests of the room ``language``."""
