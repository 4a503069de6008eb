"""Looking before sending: what `check` finds, and what it leaves alone."""
