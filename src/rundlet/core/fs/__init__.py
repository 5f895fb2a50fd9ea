"""The disk: safe names, folders, metadata and free space."""
