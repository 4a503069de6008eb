"""Tests of the room ``compiler``."""
