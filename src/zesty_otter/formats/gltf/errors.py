"""The error that all parts of the glTF reader raise."""


class UnsoundError(ValueError):
    """A file does not hold what glTF says it must; its text is the message, with the place."""
