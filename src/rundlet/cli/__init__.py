"""The command line: the same plans and the same work as in the window."""
