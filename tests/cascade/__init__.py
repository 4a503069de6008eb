"""Tests of the room ``cascade``."""
