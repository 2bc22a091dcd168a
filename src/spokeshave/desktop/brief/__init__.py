"""The brief stage."""
