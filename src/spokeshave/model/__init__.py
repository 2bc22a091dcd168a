"""The machine file as an immutable value.

Here belong the frozen values a machine file is made of, questions about the structure of a chart,
pure edits (`edit(project, ...) -> project`) and the history of documents.
Not here: anything that parses text, runs scans, reads files or draws.
"""

from spokeshave.model.diagnostics import Told


class ModelError(Told):
    """The root of the errors of this package."""
