"""Being at home on the desktop: what a person's own folders hold so that Rundlet is in the menu and opens archives. No Qt."""
