"""The cascade: which declarations of which style sheets an element gets, written into its ``style`` attribute."""
