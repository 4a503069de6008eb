"""Tests of the room ``values``."""
