"""Widgets of our own."""
