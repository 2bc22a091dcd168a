"""Plain code without its pragma: the charts that it was written from, found in the text alone.

A chart with branches side by side has a CASE for each of its threads, and a copy of their states above them. Such a text is
taken apart by the forms that the plain style has; what comes of it is written out again, and only if that is the text, word by
word, is it what was found. Any other text is for the reader of programs that were written by hand.
"""

from __future__ import annotations

from spokeshave.formats.code.found.charts import charts_of, found_in, steps_told
from spokeshave.formats.code.found.states import OtherForm

__all__ = ["OtherForm", "charts_of", "found_in", "steps_told"]
