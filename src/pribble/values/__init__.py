"""What a mark may read, how it is computed with, and how it is shown."""
