"""Events by SSE: one listening database connection per process feeds all open pages."""

from __future__ import annotations

import asyncio
import json
import threading
from collections.abc import AsyncIterator
from typing import Any

import psycopg

from ..settings import settings


class Hub:
    """Hands notifications on to the queues of those who listen to a project."""

    def __init__(self) -> None:
        self.queues: dict[asyncio.Queue[str], str] = {}
        self.loop: asyncio.AbstractEventLoop | None = None
        self.stopping = threading.Event()

    def start(self) -> None:
        self.loop, self.stopping = asyncio.get_running_loop(), threading.Event()
        threading.Thread(target=self._listen, args=(self.stopping,), daemon=True, name="events").start()

    def _listen(self, stopping: threading.Event) -> None:
        again = False
        while not stopping.is_set():
            try:
                with psycopg.connect(settings().database, autocommit=True) as c:
                    c.execute("LISTEN lantern")
                    if again:
                        self._missed()  # nobody knows what was said meanwhile
                    again = True
                    while not stopping.is_set():
                        for note in c.notifies(timeout=1.0):
                            self._hand_on(json.loads(note.payload), note.payload)
            except psycopg.Error:
                stopping.wait(1.0)

    def _hand_on(self, body: dict[str, Any], payload: str) -> None:
        if self.loop is None or self.loop.is_closed():
            return
        for queue, project in list(self.queues.items()):
            if project in ("", body["project"]) and queue.qsize() < 200:
                self.loop.call_soon_threadsafe(queue.put_nowait, payload)

    def _missed(self) -> None:
        if self.loop is not None and not self.loop.is_closed():
            for queue in list(self.queues):
                self.loop.call_soon_threadsafe(queue.put_nowait, json.dumps({"topic": "everything"}))

    async def stream(self, project_id: str) -> AsyncIterator[str]:
        queue: asyncio.Queue[str] = asyncio.Queue()
        self.queues[queue], stopping = project_id, self.stopping
        try:
            yield "event: hello\ndata: {}\n\n"
            while not stopping.is_set():
                try:
                    yield f"event: change\ndata: {await asyncio.wait_for(queue.get(), 10)}\n\n"
                except TimeoutError:
                    yield "event: beat\ndata: {}\n\n"  # silence means that the connection is lost
        finally:
            self.queues.pop(queue, None)


hub = Hub()
