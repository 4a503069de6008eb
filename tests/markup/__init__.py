"""Tests of the room ``markup``."""
