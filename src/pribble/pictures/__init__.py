"""Pictures: measured, found where they may be found, and embedded."""
