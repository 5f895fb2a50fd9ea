"""Long work: its progress, pausing and cancelling, and what came of it."""
