"""Container formats: one interface, one subpackage for each."""
