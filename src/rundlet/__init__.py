"""Rundlet: pack, look into and unpack archives."""

__version__ = "0.1.0"

ADDRESS = ""
"""Where the project's files are to be had on the web, without a slash at the end; "" while that is nowhere."""
