"""The machine_board stage."""
