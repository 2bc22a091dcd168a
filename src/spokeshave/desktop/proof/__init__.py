"""The proof stage."""
