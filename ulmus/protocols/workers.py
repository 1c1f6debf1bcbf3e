"""Reading bytes in processes of their own, so that many large pages and feeds at once hold up nothing else.

A call or two are carried out where they stand; only when more come together is the work handed to a few workers, begun
then and ended again when they have been idle. A worker (`python -m ulmus.protocols.workers`) reads jobs from its standard
input, so it ends by itself when its parent is gone, however that went. One that takes too long is killed.
"""

from __future__ import annotations

import gc
import os
import pickle
import resource
import select
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from importlib import import_module
from typing import IO, Any, TypeVar

from .errors import BadAnswer, OutsideError, TooLarge

T = TypeVar("T")
AT_HAND = 2
WORKERS = max(2, os.cpu_count() or 2)
LONGEST = 120.0
IDLE = 60.0
MEMORY = 3_000_000_000
"""Bytes of address space a worker may have."""
_HEAD = struct.Struct("!Q")


class _TooLong(TooLarge):
    """A job took too long; its worker is of no more use."""


class _Worker:
    """One process that carries out a job at a time."""

    def __init__(self) -> None:
        self.used = time.monotonic()
        self._process = subprocess.Popen(
            [sys.executable, "-m", "ulmus.protocols.workers"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, bufsize=0
        )

    def call(self, function: Callable[..., T], *arguments: Any) -> T:
        """Carry a job out. Raises what the job raised, or `EOFError` where the worker is gone."""
        ok, answer = self._ask((f"{function.__module__}:{function.__qualname__}", arguments))
        self.used = time.monotonic()
        if not ok:
            raise answer
        return answer  # type: ignore[no-any-return]

    def _ask(self, job: Any) -> tuple[bool, Any]:
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        try:
            _write(self._process.stdin, job)
            if not select.select([self._process.stdout], [], [], LONGEST)[0]:
                raise _TooLong("This takes too long to read.")
            found: tuple[bool, Any] = _read(self._process.stdout)
        except BrokenPipeError:
            raise EOFError from None
        return found

    def end(self) -> None:
        """End the process."""
        self._process.kill()
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                pipe.close()
        self._process.wait()


class _Workers:
    """The workers, where there are any; up to `at_hand` jobs are done where they stand. With none, a job that takes its
    worker down with it has failed, and is tried nowhere else."""

    def __init__(self, at_hand: int = AT_HAND) -> None:
        self._most_at_hand = at_hand
        self._changed = threading.Condition()
        self._free: list[_Worker] = []
        self._count = self._ready = 0
        self._busy = 0
        self._at_hand = 0
        self._module = ""

    def call(self, function: Callable[..., T], *arguments: Any) -> T:
        with self._changed:
            self._busy += 1
            if self._busy > self._most_at_hand and not self._free:
                self._another(function.__module__)
            try:
                worker = self._take()
            except OutsideError:
                self._busy -= 1
                raise
        try:
            return function(*arguments) if worker is None else self._by(worker, function, *arguments)
        finally:
            with self._changed:
                self._busy -= 1
                if worker is None:
                    self._at_hand -= 1
                self._changed.notify()

    def _another(self, module: str) -> None:
        """Begin one more worker, where there is room; the caller holds the lock."""
        if self._count < WORKERS:
            self._count += 1
            self._module = module
            threading.Thread(target=self._begin, args=(module,), daemon=True).start()

    def _take(self) -> _Worker | None:
        """A free worker, or ``None`` for doing it at hand; waits until there is room for one or the other."""
        late = time.monotonic() + LONGEST * 2
        # Once all workers are here, what is done at hand would only keep this process from handing them work.
        while not self._free and self._at_hand >= (0 if self._ready >= WORKERS else self._most_at_hand):
            if not self._changed.wait(LONGEST) and time.monotonic() > late:
                raise OutsideError("Too much is being read at once.", retryable=True)
        if self._free:
            return self._free.pop()
        self._at_hand += 1
        return None

    def _begin(self, module: str) -> None:
        """Begin a worker; it is free once it has loaded what the jobs need, and until then they are done at hand."""
        worker = _Worker()
        try:
            worker.call(load, module)
        except (EOFError, OutsideError):
            self._gone(worker, was_ready=False)
            return
        self._later()
        with self._changed:
            self._ready += 1
        self._back(worker)

    def _by(self, worker: _Worker, function: Callable[..., T], *arguments: Any) -> T:
        try:
            answer = worker.call(function, *arguments)
        except (EOFError, pickle.PickleError):
            self._gone(worker)
            if not self._most_at_hand:
                raise BadAnswer("This cannot be read: it asks for more than can be given to one file.") from None
            # The worker is gone: the job is done here after all.
            return function(*arguments)
        except _TooLong:
            self._gone(worker)
            raise
        except OutsideError:
            self._back(worker)
            raise
        self._back(worker)
        return answer

    def _back(self, worker: _Worker) -> None:
        with self._changed:
            self._free.append(worker)
            self._changed.notify()

    def _gone(self, worker: _Worker, was_ready: bool = True) -> None:
        """A worker is no more. Another takes its place where it had been of use and jobs wait that only a worker may do."""
        worker.end()
        with self._changed:
            self._count -= 1
            self._ready -= was_ready
            self._changed.notify_all()
            if was_ready and not self._most_at_hand and self._busy > self._count:
                self._another(self._module)

    def _look(self) -> None:
        """End workers that have been idle; look again while there are others."""
        with self._changed:
            old = [w for w in self._free if time.monotonic() - w.used > IDLE / 2]
            self._free = [w for w in self._free if w not in old]
            more = self._count > len(old)
        for worker in old:
            self._gone(worker)
        if more:
            self._later()

    def _later(self) -> None:
        timer = threading.Timer(IDLE, self._look)
        timer.daemon = True
        timer.start()


def _write(pipe: IO[bytes], value: Any) -> None:
    data = pickle.dumps(value, pickle.HIGHEST_PROTOCOL)
    view = memoryview(_HEAD.pack(len(data)) + data)
    while view:
        view = view[pipe.write(view) :]


def _read(pipe: IO[bytes]) -> Any:
    (size,) = _HEAD.unpack(_exactly(pipe, _HEAD.size))
    return pickle.loads(_exactly(pipe, size))


def _exactly(pipe: IO[bytes], size: int) -> bytes:
    pieces = []
    while size:
        piece = pipe.read(min(size, 1 << 20))
        if not piece:
            raise EOFError
        pieces.append(piece)
        size -= len(piece)
    return b"".join(pieces)


_workers = _Workers()
_apart = _Workers(at_hand=0)


def in_worker(function: Callable[..., T], *arguments: Any) -> T:
    """``function(*arguments)``, in a worker where many are called at once. The function stands at the top of a module of
    protocols; arguments and result can be pickled, and it raises nothing but `OutsideError`."""
    return _workers.call(function, *arguments)


def apart(function: Callable[..., T], *arguments: Any) -> T:
    """As `in_worker`, but always in a worker: for files that may be made to do harm."""
    return _apart.call(function, *arguments)


def load(module: str) -> None:
    """Load a module and what it puts off until it is used; the collector need not go through that again."""
    getattr(import_module(module), "load", lambda: None)()
    gc.freeze()
    gc.set_threshold(50_000, 20, 20)


def main() -> None:
    """A worker's life, within limits of memory."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY, MEMORY))
    jobs, answers = os.fdopen(0, "rb", 0), os.fdopen(os.dup(1), "wb", 0)
    os.dup2(2, 1)  # nothing a library prints may come between the answers
    while True:
        try:
            place, arguments = _read(jobs)
        except EOFError:
            return
        module, _, name = place.partition(":")
        try:
            answer = (True, getattr(import_module(module), name)(*arguments))
        except OutsideError as error:
            answer = (False, error)
        except Exception as error:  # whatever it was, only this one job fails
            answer = (False, BadAnswer(f"This cannot be read ({type(error).__name__})."))
        try:
            _write(answers, answer)
        except BrokenPipeError:  # whoever asked is gone
            return


if __name__ == "__main__":
    main()
