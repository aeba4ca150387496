"""Records in; plots and documents out."""
