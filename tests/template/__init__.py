"""Tests of templates, folders and files."""
