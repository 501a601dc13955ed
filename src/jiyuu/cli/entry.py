"""Where the program starts: the command line, or the window when no command is named.

Bad input ends in one line on standard error, 'jiyuu: what is wrong; what to do', and exit code 2.
"""

from __future__ import annotations

import os
import sys

from jiyuu.errors import JiyuuError


def main(arguments: list[str] | None = None) -> int:
    """Run; returns the exit code."""
    given = sys.argv[1:] if arguments is None else arguments
    try:
        if _wants_window(given):
            from jiyuu.desktop.application import run

            return run(given)
        return _command(given)
    except JiyuuError as error:
        return _fail(str(error))
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except KeyboardInterrupt:
        return _fail("stopped", code=130)
    except MemoryError:
        return _fail("the job needs more memory than there is; use a shorter file")


def _wants_window(given: list[str]) -> bool:
    if not given or (given[0] == "--demo" and len(given) == 1):
        return True
    return not given[0].startswith("-") and given[0].endswith((".jiyuu", ".filter.json", ".patch.json"))


def _command(given: list[str]) -> int:
    import typer
    from typer.main import get_command

    from jiyuu.cli.commands import app

    usage_error: type[Exception] = typer.BadParameter.__bases__[0]
    try:
        if given[0] == "--demo":  # with more behind it, such as --help
            given = [name for name in given[1:] if name in ("-h", "--help")] or ["--help"]
        result = get_command(app).main(args=in_pairs(given), prog_name="jiyuu", standalone_mode=False)
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
