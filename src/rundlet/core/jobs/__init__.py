"""Long work: its progress, pausing and cancelling, and what it has to report."""
