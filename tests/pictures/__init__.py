"""Tests of the room ``pictures``."""
