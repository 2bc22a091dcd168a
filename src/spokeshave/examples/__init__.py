"""Machine files that ship, and planted mistakes: what engineers get wrong, put into the roastery on purpose.

Only the model is used here; nothing in the program depends on the examples but the command that opens them.
"""
