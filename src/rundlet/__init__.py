"""Rundlet: pack, look into and unpack archives."""

__version__ = "0.1.0"
