"""Linked source and markup become programs: Python functions built as syntax trees, one for each form of a message."""
