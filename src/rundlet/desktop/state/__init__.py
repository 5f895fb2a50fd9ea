"""What the window knows: where it stands, what is selected, and what is filled in; no widget."""
