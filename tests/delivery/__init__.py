"""Tests of the room ``delivery``."""
