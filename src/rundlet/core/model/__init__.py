"""What formats, plans and the window speak of: entries, catalogs, trees, items to pack, and what formats can do."""
