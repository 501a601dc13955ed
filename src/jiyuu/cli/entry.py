"""Where the program starts: the command line, or the window when no command is named.

Bad input ends in one line on standard error, 'jiyuu: what is wrong; what to do', and exit code 2.
"""

from __future__ import annotations

import errno
import io
import os
import signal
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from functools import lru_cache
from typing import Any

from jiyuu.errors import JiyuuError
from jiyuu.stopping import Stopped, stoppable

SHOWN = 200  # signs of a name in a message
STOPPED = 130  # what a shell expects of a program that was interrupted


def main(arguments: list[str] | None = None) -> int:
    """Run; returns the exit code."""
    given = sys.argv[1:] if arguments is None else arguments
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, io.TextIOWrapper):  # a sign that a terminal does not know is written by its number
            stream.reconfigure(errors="backslashreplace")
    try:
        if _wants_window(given):
            from jiyuu.desktop.application import run

            return run(given)
        with interruptible():
            code = _command(given)
        sys.stdout.flush()  # what does not fit on a full disk is said now, not when it is too late
        return code
    except JiyuuError as error:
        return _fail(str(error))
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except OSError as error:
        return _fail(_could_not(error))
    except (KeyboardInterrupt, Stopped):
        return _fail("stopped", code=STOPPED)
    except MemoryError:
        return _fail("the job needs more memory than there is; use a shorter file")


@contextmanager
def interruptible() -> Iterator[None]:
    """Inside, Ctrl+C is also what every checkpoint looks at: the exception alone is lost where it is raised in what
    compiled code calls back."""
    elsewhere = threading.current_thread() is not threading.main_thread()  # where no signal can be caught
    if elsewhere or signal.getsignal(signal.SIGINT) is not signal.default_int_handler:  # ignored, or someone else's
        yield
        return
    stop = threading.Event()

    def interrupted(*_: object) -> None:
        stop.set()
        raise KeyboardInterrupt

    signal.signal(signal.SIGINT, interrupted)
    try:
        with stoppable(stop):
            yield
    finally:
        signal.signal(signal.SIGINT, signal.default_int_handler)


def _could_not(error: OSError) -> str:
    """What the system refused, and what to do."""
    what = "The output" if error.filename is None else str(error.filename)
    if error.filename is None:  # whatever waits to be written there is given up
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.__stdout__.fileno() if sys.__stdout__ else 1)
    hints = {errno.ENOSPC: "free some space or write elsewhere", errno.ENAMETOOLONG: "give a shorter name",
             errno.EACCES: "check its rights"}
    shown = what if len(what) <= SHOWN else f"{what[:SHOWN]}…"
    return f"{shown}: {error.strerror or error}; {hints.get(error.errno or 0, 'check the name and the disk')}"


def _wants_window(given: list[str]) -> bool:
    if not given or (given[0] == "--demo" and len(given) == 1):
        return True
    return not given[0].startswith("-") and given[0].endswith((".jiyuu", ".filter.json", ".patch.json"))


def _command(given: list[str]) -> int:
    import typer

    usage_error: type[Exception] = typer.BadParameter.__bases__[0]
    try:
        if given[0] == "--demo":  # with more behind it, such as --help
            given = [name for name in given[1:] if name in ("-h", "--help")] or ["--help"]
        result = _parser().main(args=in_pairs(given), prog_name="jiyuu", standalone_mode=False)
        if result == STOPPED:  # the parser turns an interruption into an exit
            raise KeyboardInterrupt
        return int(result) if isinstance(result, int) else 0
    except typer.Exit as stop:
        return int(stop.exit_code)
    except usage_error as error:
        context = getattr(error, "ctx", None)
        if context is not None and type(error).__name__ == "NoArgsIsHelpError":
            sys.stderr.write(f"{context.get_help()}\n")
            return 2
        command = "jiyuu" if context is None else context.command_path
        return _fail(f"{getattr(error, 'format_message', error.__str__)().rstrip('.')}; see '{command} --help'.")


@lru_cache(maxsize=1)  # some tenths of a second, once a process
def _parser() -> Any:
    from typer.main import get_command

    from jiyuu.cli.commands import app

    return get_command(app)


def in_pairs(given: list[str]) -> list[str]:
    """`--pair A B` as the parser knows it: `--pair A --pair B`. Raises JiyuuError where the second is missing."""
    found: list[str] = []
    rest = iter(given)
    for word in rest:
        found.append(word)
        if word == "--pair":
            both = [next(rest, ""), next(rest, "")]
            if any(not one or one.startswith("--") for one in both):
                raise JiyuuError("--pair takes two files, STIMULUS.wav and RECORDING.wav; give both.")
            found += [both[0], "--pair", both[1]]
    return found


def _fail(text: str, *, code: int = 2) -> int:
    line = " ".join(text.split())
    sys.stderr.write(f"jiyuu: {line}\n")
    return code


if __name__ == "__main__":
    sys.exit(main())
