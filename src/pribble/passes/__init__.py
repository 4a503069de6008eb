"""Passes over a page: edits at offsets, and what a page needs of files, for a template's page and a rendered one."""
