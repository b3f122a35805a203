"""Work on tiles of many stations: some are read while others are looked through, each thread by a connection of its own. The
process of a job may do so too: the one that it is forked of has no threads."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, closing
from queue import SimpleQueue
from typing import TypeVar

from .tiles import Reader, reader

Task = TypeVar("Task")
Done = TypeVar("Done")
THREADS = 2


def in_turn(tasks: Iterable[Task], do: Callable[[Task, Reader], Done]) -> Iterator[Done]:
    """What ``do`` makes of each task, in their order. Tasks are taken here, one more than are under way, so that they may ask a session;
    ``do`` runs in other threads, and reads by what it is given alone."""
    free: SimpleQueue[Reader] = SimpleQueue()
    ahead: deque[Future[Done]] = deque()

    def one(task: Task) -> Done:
        through = free.get()
        try:
            return do(task, through)
        finally:
            free.put(through)

    with ExitStack() as stack, ThreadPoolExecutor(THREADS) as pool:
        try:
            for k, task in enumerate(tasks):
                if k < THREADS:
                    free.put(stack.enter_context(closing(reader())))
                ahead.append(pool.submit(one, task))
                if len(ahead) > THREADS:
                    yield ahead.popleft().result()
            while ahead:
                yield ahead.popleft().result()
        finally:
            pool.shutdown(cancel_futures=True)
