"""Prints a page: HTML on standard input, PDF into a file. Runs as a process of its own under limits that it sets first.

Arguments: bytes of memory, seconds of processor time, pages, bytes of the PDF, its path, and for each file that the page
may show its name and its path. Writes one line of JSON: `{"pages": 3}` or `{"fault": "why", "kind": "print"}`.
"""

import ctypes
import json
import os
import resource
import sys
from urllib.parse import unquote

BASE = "http://files.invalid/"
CLONE_NEWNET, CLONE_NEWUSER = 0x40000000, 0x10000000


def limit(what, most):
    resource.setrlimit(what, (most, most))


def end(**result):
    print(json.dumps(result), flush=True)
    os._exit(0)


def main():
    memory, seconds, pages, size = (int(arg) for arg in sys.argv[1:5])
    target, named = sys.argv[5], sys.argv[6:]
    files = dict(zip(named[::2], named[1::2]))
    limit(resource.RLIMIT_AS, memory)
    limit(resource.RLIMIT_CPU, seconds)
    limit(resource.RLIMIT_FSIZE, size)
    limit(resource.RLIMIT_CORE, 0)
    # A network of its own, without interfaces, where the machine allows that; nothing is fetched in any case.
    ctypes.CDLL(None).unshare(CLONE_NEWUSER | CLONE_NEWNET)

    import logging

    import weasyprint

    logging.getLogger("weasyprint").addHandler(logging.NullHandler())
    logging.getLogger("weasyprint").propagate = False
    refused = []

    def fetch(url, *_, **__):
        if url.startswith("data:"):
            return weasyprint.default_url_fetcher(url)
        if url.startswith(BASE):
            path = files.get(unquote(url[len(BASE):].split("?")[0].split("#")[0]))
            if path is not None:
                return {"file_obj": open(path, "rb")}
        refused.append(url[len(BASE):] if url.startswith(BASE) else url)
        raise ValueError("refused")

    try:
        document = weasyprint.HTML(string=sys.stdin.read(), base_url=BASE, url_fetcher=fetch).render()
        if refused:
            shown = ", ".join(sorted(set(refused))[:3])[:300]
            end(kind="print", fault="the page names what it may not show: %s; name files of the run under `files`" % shown)
        if len(document.pages) > pages:
            end(kind="too-large", fault="%d pages; at most %d are printed" % (len(document.pages), pages))
        document.write_pdf(target)
        if refused:
            shown = ", ".join(sorted(set(refused))[:3])[:300]
            end(kind="print", fault="the page names what it may not show: %s; name files of the run under `files`" % shown)
        end(pages=len(document.pages))
    except MemoryError:
        end(kind="too-large", fault="printing the page takes more than %d bytes of memory" % memory)
    except OSError as error:
        end(kind="too-large" if error.errno == 27 else "print", fault=str(error)[:300])
    except Exception as error:
        end(kind="print", fault=("%s: %s" % (type(error).__name__, error))[:300])


if sys.argv[1:] == ["--version"]:
    import weasyprint

    print(weasyprint.__version__)
else:
    main()
