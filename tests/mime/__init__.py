"""Tests of the room ``mime``."""
