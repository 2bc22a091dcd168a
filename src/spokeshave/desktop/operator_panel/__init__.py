"""The operator's page as somebody has laid it out: tiles to read and to touch, and the laying out."""
