"""The sequence stage."""
