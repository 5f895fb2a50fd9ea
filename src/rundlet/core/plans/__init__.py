"""Plans: what will be done, worked out by reading only, shown before it is run, and frozen."""
