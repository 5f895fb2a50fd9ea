"""The demo: an invented volunteer group that watches a small river, made by code with a fixed seed."""
