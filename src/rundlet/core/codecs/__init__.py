"""Codecs and checksums: incremental objects that know no files."""
