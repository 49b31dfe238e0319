"""The product running by itself, and somebody at its pages: for tests."""

from __future__ import annotations

import json
import os
import re
import signal
import subprocess
import sys
import time
import urllib.request
from contextlib import suppress
from http.cookiejar import CookieJar
from pathlib import Path
from urllib.parse import urlencode

import psycopg

from zipplumb.store.cluster import Cluster, free_port

CLI = [sys.executable, "-m", "zipplumb.cli"]
PASSWORD = "a fine password"


class Installation:
    """A database of its own, ``zip-plumb serve``, and who looks after both."""

    def __init__(self, folder: Path):
        self.folder, self.port = folder, free_port()
        folder.mkdir(parents=True)
        self.cluster = Cluster(folder / "postgres")
        self.environment = {**os.environ, "ZIPPLUMB_DATABASE": self.cluster.start(), "ZIPPLUMB_SECRET": "a secret of the tests"}
        self.environment.pop("ZIPPLUMB_SIM_CONTROL", None)
        self.url = f"http://127.0.0.1:{self.port}"
        self.server: subprocess.Popen | None = None

    def cli(self, *words: str, said: str = "") -> str:
        done = subprocess.run([*CLI, *words], env=self.environment, input=said, text=True, capture_output=True, check=True)
        return done.stdout

    def serve(self) -> None:
        told = ["--port", str(self.port), "--web", "2", "--workers", "2", "--pids", str(self.folder / "pids"),
                "--logs", str(self.folder)]  # fmt: skip
        log = (self.folder / "serve.log").open("ab")
        self.server = subprocess.Popen([*CLI, "serve", "all", *told], env=self.environment, stdout=log, stderr=log)

    def mend(self) -> None:
        if self.server.poll() is not None:
            self.serve()
        if not self.cluster.answers():
            self.cluster.start()

    def pids(self) -> dict[str, int]:
        with suppress(OSError, ValueError):
            return json.loads((self.folder / "pids").read_text())
        return {}

    def until(self, true, seconds: float = 60.0):
        end = time.monotonic() + seconds
        while time.monotonic() < end:
            with suppress(OSError, psycopg.Error):
                if found := true():
                    return found
            self.mend()
            time.sleep(0.05)
        raise AssertionError("it did not come to that", self.pids(), self.told())

    def told(self) -> dict[str, str]:
        """What its processes last wrote, for who reads of a failure."""
        return {log.name: log.read_text(errors="replace")[-3000:] for log in self.folder.glob("*.log")}

    def ask(self, query: str, *values):
        with psycopg.connect(self.environment["ZIPPLUMB_DATABASE"], connect_timeout=3) as connection:
            return connection.execute(query, values).fetchall()

    def stop(self) -> None:
        self.server.send_signal(signal.SIGTERM)
        self.server.wait(timeout=30)
        self.cluster.destroy()
        subprocess.run(["rm", "-rf", str(self.folder)], check=True)


class Visitor:
    """Somebody at the pages, over the network."""

    def __init__(self, url: str):
        self.url, self.token = url, ""
        self.opener = urllib.request.build_opener(urllib.request.HTTPCookieProcessor(CookieJar()))

    def get(self, path: str, timeout: float = 5.0) -> str:
        with self.opener.open(self.url + path, timeout=timeout) as answer:
            page = answer.read().decode()
        if found := re.search(r'name="csrf-token" content="([^"]+)"', page):
            self.token = found[1]
        return page

    def post(self, path: str, form: dict, file: bytes | None = None) -> str:
        kind, body = "application/x-www-form-urlencoded", urlencode({"csrf_token": self.token, **form}).encode()
        if file is not None:
            edge = "----edge"
            parts = [f'--{edge}\r\nContent-Disposition: form-data; name="{k}"\r\n\r\n{v}\r\n' for k, v in
                     {"csrf_token": self.token, **form}.items()]  # fmt: skip
            head = f'--{edge}\r\nContent-Disposition: form-data; name="file"; filename="part.step"\r\n\r\n'
            body = "".join([*parts, head]).encode() + file + f"\r\n--{edge}--\r\n".encode()
            kind = f"multipart/form-data; boundary={edge}"
        request = urllib.request.Request(self.url + path, body, {"Content-Type": kind})
        with self.opener.open(request, timeout=10) as answer:
            self.at = answer.geturl()
            return answer.read().decode()


def signed_in(installation) -> Visitor:
    visitor = Visitor(installation.url)
    visitor.get("/sign-in")
    visitor.post("/sign-in", {"login": "olwen", "password": PASSWORD})
    visitor.get("/")
    return visitor
