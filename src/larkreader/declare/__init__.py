"""What the engineer says: frozen, validated models of a link. No arrays, and no file but the sheet."""
