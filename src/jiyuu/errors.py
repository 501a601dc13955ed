"""What can go wrong, as a small tree.

    JiyuuError            the one class the window and the command line catch
    ├── CircuitError      a circuit, its parameters or a filter file do not make sense
    ├── SignalError       a stimulus or recording cannot be used as it is
    ├── MeasurementError  the arrays do not hold what was asked of them
    └── BookError         a book cannot be opened or written

Every message says what was wrong, where, and what to do.
"""


class JiyuuError(Exception):
    """Root of all errors that are told to the person in plain words."""


class CircuitError(JiyuuError):
    """A circuit, one of its parameters or a filter file does not make sense."""


class SignalError(JiyuuError):
    """A stimulus or recording cannot be used as it is."""


class MeasurementError(JiyuuError):
    """The arrays do not hold what was asked of them."""


class BookError(JiyuuError):
    """A book cannot be opened or written."""
