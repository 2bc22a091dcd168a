"""The bench stage."""
