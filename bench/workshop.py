"""A signed-in session on one connection that is kept open, as a browser's is."""

import http.client
import json
import re
import subprocess
import time
from http.cookies import SimpleCookie
from urllib.parse import urlencode, urlsplit

USER, PASSWORD = "saltmarsh", "lantern-on-the-bench"


class Refused(Exception):
    """An answer that is none: its status and the beginning of its text."""


class Workshop:
    """An account's session with the application at an address."""

    def __init__(
        self,
        address: str,
        user: str = USER,
        password: str = PASSWORD,
        new: bool = False,
        invitation: str = "",
        connection: http.client.HTTPConnection | None = None,
    ) -> None:
        self.address = address
        self.connection = connection or http.client.HTTPConnection(urlsplit(address).netloc, timeout=120)
        self.cookies: dict[str, str] = {}
        self.get("/sign-in/")
        if new:
            self.post("/sign-up/", username=user, password1=password, password2=password, invitation=invitation)
        else:
            self.post("/sign-in/", username=user, password=password)

    def headers(self) -> dict[str, str]:
        """What a browser sends of itself with every request."""
        cookie = "; ".join(f"{name}={value}" for name, value in self.cookies.items())
        return {"Host": urlsplit(self.address).netloc, "Cookie": cookie}

    def _ask(self, method: str, where: str, body: bytes | None = None, **headers: str) -> tuple[str, str]:
        """The answer's text and where a redirection leads."""
        headers |= self.headers()
        if method == "POST":
            headers |= {"X-CSRFToken": self.cookies["csrftoken"], "Referer": self.address}
        self.connection.request(method, where, body, headers)
        answer = self.connection.getresponse()
        text = answer.read().decode()
        for name, value in answer.getheaders():
            if name.lower() == "set-cookie":
                for key, morsel in SimpleCookie(value).items():
                    self.cookies[key] = morsel.value
        if answer.status >= 400:
            raise Refused(f"{method} {where}: {answer.status} {text[:200]}")
        return text, answer.getheader("Location", "")

    def get(self, where: str, htmx: bool = False) -> str:
        """A page, or a piece of one."""
        return self._ask("GET", where, **({"HX-Request": "true"} if htmx else {}))[0]

    def post(self, where: str, htmx: bool = False, **values: str) -> str:
        """What a form's answer is; for a page, where it leads."""
        headers = {"Content-Type": "application/x-www-form-urlencoded", **({"HX-Request": "true"} if htmx else {})}
        text, place = self._ask("POST", where, urlencode(values).encode(), **headers)
        return text if htmx else place

    def send(self, where: str, name: str, content: bytes, **values: str) -> str:
        """Send a file with a form's other values; where the answer leads."""
        mark = "----bench"
        fields = "".join(
            f'--{mark}\r\nContent-Disposition: form-data; name="{key}"\r\n\r\n{value}\r\n'
            for key, value in values.items()
        )
        head = f'--{mark}\r\nContent-Disposition: form-data; name="file"; filename="{name}"\r\n\r\n'
        data = (fields + head).encode() + content + f"\r\n--{mark}--\r\n".encode()
        return self._ask("POST", where, data, **{"Content-Type": f"multipart/form-data; boundary={mark}"})[1]

    def upload(self, design: dict) -> int:
        """Import a design; the project's number."""
        place = self.send("/amps/import/", "bench.json", json.dumps(design).encode())
        return int(re.search(r"/amps/(\d+)/", place).group(1))

    def fetch(self, where: str) -> bytes:
        """A file."""
        self.connection.request("GET", where, headers=self.headers())
        return self.connection.getresponse().read()

    def arrived(self, content: bytes, seconds: float = 120) -> str:
        """Import an export of an account and wait until a worker has done so; what the page says then."""
        self.send("/account/import/", "workshop.zip", content)
        until = time.monotonic() + seconds
        while time.monotonic() < until:
            said = self.get("/account/import/state/", htmx=True)
            if "every 1s" not in said:
                return said
            time.sleep(0.3)
        return "THE IMPORT DOES NOT END"

    def edit(self, project: int, path: str, value: str, stage: str = "output") -> str:
        """A changed value in Chain, as the page posts it; the piece of page that comes back."""
        return self.post(f"/amps/{project}/chain/change/", htmx=True, path=path, value=value, stage=stage)

    def follow(self, project: int, answer: str) -> None:
        """Ask for what the page asks for by itself after an edit: the findings, then the same with their cures."""
        for _ in range(3):
            address = re.search(rf'hx-get="(/amps/{project}/chain/findings/\?seen=\d+)"', answer)
            if not address:
                return
            answer = self.get(address[1], htmx=True)


def memory() -> dict[str, float]:
    """Resident memory of each process of the server, MB."""
    listing = subprocess.run(["ps", "-eo", "pid,rss,args"], capture_output=True, text=True).stdout
    rows = [line.split(None, 2) for line in listing.splitlines()[1:]]
    kinds = {"bold_anode.serving": "web", "manage.py work": "worker"}
    return {f"{kind} {row[0]}": int(row[1]) / 1024 for row in rows for mark, kind in kinds.items() if mark in row[2]}
