"""Progress for people, and failures that say what to do."""

import subprocess
import sys
import time
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path


class Failure(Exception):
    """A step failed: why, and what to do about it."""

    def __init__(self, why: str, then: str = "") -> None:
        super().__init__(why)
        self.why = why
        self.then = then


def line(text: str) -> None:
    """Print one line at once, also into a pipe."""
    print(text, flush=True)


@contextmanager
def step(name: str) -> Iterator[None]:
    """Announce a step, then how long it took; a failure names the step."""
    began = time.monotonic()
    line(f"· {name} …")
    try:
        yield
    except Failure as failure:
        raise Failure(f"{name}: {failure.why}", failure.then) from failure
    took = time.monotonic() - began
    if took > 1:
        line(f"  done in {took:.0f} s")


def run(
    command: Sequence[str | Path],
    then: str = "",
    cwd: Path | None = None,
    env: Mapping[str, str] | None = None,
    loud: bool = False,
) -> str:
    """Run a command and give its output; raise Failure with the end of its output if it fails.

    Parameters
    ----------
    then : what the reader can do if it fails
    loud : let the command write to the terminal itself
    """
    words = [str(word) for word in command]
    try:
        done = subprocess.run(
            words,
            cwd=cwd,
            env=env,
            stdout=None if loud else subprocess.PIPE,
            stderr=None if loud else subprocess.STDOUT,
            text=True,
        )
    except FileNotFoundError as missing:
        raise Failure(f"the program {words[0]} is not there", then) from missing
    output = done.stdout or ""
    if done.returncode:
        tail = "\n".join("    " + text for text in output.strip().splitlines()[-15:])
        raise Failure(f"`{' '.join(words[:6])}` ended with {done.returncode}\n{tail}".rstrip(), then)
    return output


def complain(failure: Failure) -> None:
    """Print a failure and what to do about it."""
    print(f"lumtar: {failure.why}", file=sys.stderr)
    if failure.then:
        print(f"        {failure.then}", file=sys.stderr)
