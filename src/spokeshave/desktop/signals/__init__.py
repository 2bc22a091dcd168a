"""The signals stage."""
