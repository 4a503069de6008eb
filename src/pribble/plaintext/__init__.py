"""Plain text: the events of a page as blocks, and blocks as lines."""
