"""Machine files that ship, and planted mistakes: what engineers get wrong, put into them on purpose.

Only the model is used here; nothing in the program depends on the examples but what opens them.
"""

from pathlib import Path

FOLDER = Path(__file__).parent
EXAMPLES = (
    ("roastery.spoke", "Roastery", "Two sequences that overlap, tolerances, trips, a brief of 22 sentences, and what proves them."),
    ("lock.spoke", "Canal lock", "Two gates of two leaves side by side, two ways through, calls that are kept, a keeper who goes on."),
    ("carousel.spoke", "Candle carousel", "Dips by a plan of times: another candle is a recipe. A pause that waits for the arm."),
    ("roastery-mistake.spoke", "Roastery with a mistake", "A way out of a step is wrong. Run the proof and see who notices."),
    ("paddle.st", "Paddle", "One sequence of a page, as a text file: the smallest thing to read and to change."),
)  # fmt: skip
"""File, name and a sentence of each example to open."""
