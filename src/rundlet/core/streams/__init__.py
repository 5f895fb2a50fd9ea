"""Where bytes come from and where they go."""
