"""Parts of the Shelf's page."""
