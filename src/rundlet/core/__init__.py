"""The core: everything Rundlet can do, without a line of interface code."""
