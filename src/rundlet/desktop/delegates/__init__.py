"""How rows are painted."""
