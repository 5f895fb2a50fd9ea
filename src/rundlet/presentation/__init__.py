"""The words for what the core has found and done, in whole sentences, shared by the window and the command line. No Qt."""
