"""Tests of the room ``plaintext``."""
