"""One web process: ``python -m bold_anode.serving DESCRIPTOR`` serves the listening socket that it was handed.

./start starts one a core, all at the same socket. A request is taken in whole before a thread is spent on it, so a
slow or an idle client holds nothing that another needs; a connection that is kept open stays with its process, and
so with the solutions that are kept there.
"""

import contextlib
import ctypes
import gc
import logging
import os
import signal
import socket
import sys
import threading
import time
from collections.abc import Callable
from typing import Any

from waitress.adjustments import Adjustments
from waitress.task import ThreadedTaskDispatcher

from bold_anode.serving.connections import Server

THREADS = 24
MOST_BYTES = 20_000_000
TIDIED_SECONDS = 30
_log = logging.getLogger("bold_anode.serving")


def _stop(*_: object) -> None:
    raise SystemExit


def _proxy() -> dict[str, Any]:
    """Whose word is taken for the client's address, scheme and host: the proxy's that BOLD_ANODE_PROXY names."""
    proxy = os.environ.get("BOLD_ANODE_PROXY")
    if not proxy:
        return {"clear_untrusted_proxy_headers": True}
    headers = {"x-forwarded-for", "x-forwarded-proto", "x-forwarded-host"}
    return {"trusted_proxy": proxy, "trusted_proxy_headers": headers, "clear_untrusted_proxy_headers": True}


def _keep_house(warm_up: Callable[[], None]) -> None:
    """Load what the first page did not need; then give back to the machine, again and again, what requests have left:
    objects that hold each other, and what is free between those that stay."""
    try:
        warm_up()
    except Exception:
        _log.exception("What every edit needs could not be loaded ahead.")
    library = ctypes.CDLL(None)
    while True:
        time.sleep(TIDIED_SECONDS)
        gc.collect()
        library.malloc_trim(0)


def server_for(application: Any, ear: socket.socket) -> Server:
    """A server of an application at a listening socket; its ``run`` serves until SystemExit is raised in it."""
    settings = Adjustments(
        sockets=[ear],
        threads=int(os.environ.get("BOLD_ANODE_THREADS", THREADS)),
        max_request_body_size=MOST_BYTES,
        max_request_header_size=32_768,
        **_proxy(),
        ident=None,
    )
    threads = ThreadedTaskDispatcher()
    threads.set_thread_count(settings.threads)
    where = (ear.family, ear.type, ear.proto, ear.getsockname())
    server = Server(
        application, map={}, _sock=ear, dispatcher=threads, adj=settings, sockinfo=where, bind_socket=False
    )
    server.proxy = settings.trusted_proxy
    return server


def main() -> None:
    """Serve until told to stop."""
    signal.signal(signal.SIGTERM, _stop)
    signal.signal(signal.SIGINT, _stop)
    from bold_anode.wsgi import application, warm_up

    server = server_for(application, socket.socket(fileno=int(sys.argv[1])))
    threading.Thread(target=_keep_house, args=(warm_up,), daemon=True).start()
    # That requests wait for a thread is no news.
    logging.getLogger("waitress.queue").setLevel(logging.ERROR)
    status = 0
    try:
        server.run()
    except Exception:
        _log.critical("The web process ends because of an error.", exc_info=True)
        status = 1
    finally:
        # A request that is being answered has had its time to end; the interpreter need not wait for its thread.
        with contextlib.suppress(OSError):
            sys.stdout.flush()
            sys.stderr.flush()
        os._exit(status)


if __name__ == "__main__":
    main()
