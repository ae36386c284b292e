"""A signed-in session on one connection that is kept open, as a browser's is."""

import http.client
import json
import re
import subprocess
from http.cookies import SimpleCookie
from urllib.parse import urlencode, urlsplit

USER, PASSWORD = "saltmarsh", "lantern-on-the-bench"


class Refused(Exception):
    """An answer that is none: its status and the beginning of its text."""


class Workshop:
    """An account's session with the application at an address."""

    def __init__(self, address: str, user: str = USER, password: str = PASSWORD, new: bool = False) -> None:
        self.address = address
        self.connection = http.client.HTTPConnection(urlsplit(address).netloc, timeout=120)
        self.cookies: dict[str, str] = {}
        self.get("/sign-in/")
        if new:
            self.post("/sign-up/", username=user, password1=password, password2=password)
        else:
            self.post("/sign-in/", username=user, password=password)

    def _ask(self, method: str, where: str, body: bytes | None = None, **headers: str) -> tuple[str, str]:
        """The answer's text and where a redirection leads."""
        headers |= {"Cookie": "; ".join(f"{name}={value}" for name, value in self.cookies.items())}
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

    def upload(self, design: dict) -> int:
        """Import a design; the project's number."""
        mark = "----bench"
        data = (
            f'--{mark}\r\nContent-Disposition: form-data; name="file"; filename="bench.json"\r\n'
            f"Content-Type: application/json\r\n\r\n{json.dumps(design)}\r\n--{mark}--\r\n"
        ).encode()
        place = self._ask("POST", "/amps/import/", data, **{"Content-Type": f"multipart/form-data; boundary={mark}"})[
            1
        ]
        return int(re.search(r"/amps/(\d+)/", place).group(1))

    def edit(self, project: int, path: str, value: str, stage: str = "output") -> str:
        """A changed value in Chain, as the page posts it; the piece of page that comes back."""
        return self.post(f"/amps/{project}/chain/change/", htmx=True, path=path, value=value, stage=stage)

    def follow(self, project: int, answer: str) -> None:
        """Ask for what the page asks for by itself after an edit: the findings with their cures."""
        found = re.search(rf'hx-get="(/amps/{project}/chain/findings/\?seen=\d+)"', answer)
        if found:
            self.get(found[1], htmx=True)


def memory() -> dict[str, float]:
    """Resident memory of each process of the server, MB."""
    listing = subprocess.run(["ps", "-eo", "pid,rss,args"], capture_output=True, text=True).stdout
    rows = [line.split(None, 2) for line in listing.splitlines()[1:]]
    kinds = {"bold_anode.serving": "web", "manage.py work": "worker"}
    return {f"{kind} {row[0]}": int(row[1]) / 1024 for row in rows for mark, kind in kinds.items() if mark in row[2]}
