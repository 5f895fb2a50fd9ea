"""What is kept of a person's use of the program: the log, saved ways to pack, and places."""
