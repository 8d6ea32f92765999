"""A real installation as docs/operating.md sets it up: nginx before it, TLS, cookies, tokens, addresses, sign-out."""

import http.client
import os
import re
import shutil
import socket
import ssl
import subprocess
import time
from pathlib import Path

import pytest
from installation import PASSWORD, Caller, Installation

DOCS = Path(__file__).resolve().parents[2] / "docs" / "operating"
NAME = "scan.museum.example"


@pytest.fixture(scope="module")
def plain(tmp_path_factory: pytest.TempPathFactory):
    """An installation as it stands on a desk: no proxy, no TLS."""
    it = Installation(tmp_path_factory.mktemp("plain"))
    it.found()
    yield it
    it.stop()


def sign_in(caller: Caller, password: str, **headers: str):
    caller.ask("GET", "/api/session")
    return caller.ask("POST", "/api/session", {"username": "mira", "password": password}, headers)


def test_nobody_is_signed_in_from_a_foreign_page(plain: Installation) -> None:
    foreign = Caller(plain.port)
    body = {"username": "mira", "password": PASSWORD}
    assert foreign.ask("POST", "/api/session", body).status == 403
    # With a token of their own, but from another site.
    foreign.ask("GET", "/api/session")
    assert foreign.ask("POST", "/api/session", body, {"Origin": "https://evil.example"}).status == 403
    assert "sessionid" not in foreign.cookies
    assert foreign.sign_in().status == 200 and foreign.cookies["sessionid"]


def test_the_lock_of_sign_in_is_not_evaded_by_a_forged_address(plain: Installation) -> None:
    caller = Caller(plain.port)
    statuses = [
        sign_in(caller, "wrong", **{"X-Forwarded-For": f"10.0.0.{n}"}).status for n in range(9)
    ]  # fmt: skip
    assert statuses[0] == 403 and statuses[-1] == 429
    assert plain.manage("shell", "-c", "from axes.utils import reset; reset()").returncode == 0


def test_a_changed_password_and_keeping_out_end_sessions(plain: Installation) -> None:
    caller = Caller(plain.port)
    assert caller.sign_in().status == 200
    new = {"settings": {"LUCID_RELIC_PASSWORD": "another-tide-8"}}
    assert plain.manage("person", "password", "mira", **new).returncode == 0
    assert caller.ask("GET", "/api/objects").status == 403
    assert caller.sign_in(password="another-tide-8").status == 200
    assert plain.manage("person", "out", "mira").returncode == 0
    assert caller.ask("GET", "/api/objects").status == 403
    plain.manage("person", "in", "mira")
    plain.manage("person", "password", "mira", settings={"LUCID_RELIC_PASSWORD": PASSWORD})


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (["add", "mira"], "already exists"), (["add", "a b"], "valid username"), (["add", "weak"], "too common"),
        (["password", "nobody"], "nobody with the name"), (["room", "mira", "-1"], "number of gigabytes"),
    ],
)  # fmt: skip
def test_commands_for_people_say_what_is_wrong(plain: Installation, arguments: list[str], says: str) -> None:
    password = "password" if "weak" in arguments else "tide-and-slate-9"
    answer = plain.manage("person", *arguments, settings={"LUCID_RELIC_PASSWORD": password})
    assert answer.returncode == 1 and says in answer.stderr and "Traceback" not in answer.stderr


def test_people_are_listed_with_what_they_take(plain: Installation) -> None:
    plain.manage("person", "add", "ruth", "--administrator", settings={"LUCID_RELIC_PASSWORD": "tide-and-slate-9"})
    plain.manage("person", "room", "ruth", "5")
    listed = plain.manage("person", "list").stdout
    assert re.search(r"ruth +administrator +0.00 GB of 5 GB", listed)
    assert re.search(r"mira +person +0.00 GB of any", listed)


def test_backup_and_restore_say_what_is_wrong(plain: Installation, tmp_path: Path) -> None:
    assert "new folder" in plain.manage("backup", str(tmp_path)).stderr
    assert "not a whole backup" in plain.manage("restore", str(tmp_path)).stderr
    whole = tmp_path / "whole"
    assert plain.manage("backup", str(whole)).returncode == 0
    assert "holds an installation already" in plain.manage("restore", str(whole)).stderr


class Proxied:
    """The installation of the documents, with nginx and a certificate made here."""

    def __init__(self, folder: Path) -> None:
        self.folder, self.port = folder, _free_port()
        settings = dict(
            line.split("=", 1) for line in (DOCS / "lucid-relic.env").read_text().splitlines() if line[:1] not in "#"
        )
        del settings["LUCID_RELIC_DATA"]
        self.it = Installation(folder / "data", **settings)
        self.it.data.mkdir()
        pem, key = folder / "site.pem", folder / "site.key"
        subprocess.run(
            ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-keyout", str(key), "-out",
             str(pem), "-subj", f"/CN={NAME}", "-addext", f"subjectAltName=DNS:{NAME}"],
            check=True, capture_output=True,
        )  # fmt: skip
        site = (DOCS / "nginx.conf").read_text()
        for old, new in (
            ("listen 80;", f"listen 127.0.0.1:{_free_port()};"), ("listen 443 ssl", f"listen 127.0.0.1:{self.port} ssl"),
            ("127.0.0.1:8765", f"127.0.0.1:{self.it.port}"), (f"/etc/ssl/{NAME}.pem", str(pem)),
            (f"/etc/ssl/{NAME}.key", str(key)),
        ):  # fmt: skip
            assert old in site
            site = site.replace(old, new)
        temporary = "\n".join(
            f"{kind}_temp_path {folder}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
        )
        main = f"pid {folder}/nginx.pid; error_log {folder}/error.log; worker_processes 1;\nevents {{}}\n"
        (folder / "nginx.conf").write_text(f"{main}http {{ access_log off;\n{temporary}\n{site}\n}}\n")
        self.nginx = subprocess.Popen([_nginx(), "-c", str(folder / "nginx.conf"), "-g", "daemon off;"])
        self.context = ssl.create_default_context(cafile=str(pem))

    def ask(
        self, method: str, path: str, body: str | None = None, **headers: str
    ) -> tuple[int, http.client.HTTPMessage, bytes]:
        link = http.client.HTTPSConnection("127.0.0.1", self.port, timeout=30, context=self.context)
        link.sock = self.context.wrap_socket(socket.create_connection(("127.0.0.1", self.port)), server_hostname=NAME)
        link.request(method, path, body, {"Host": NAME, **headers})
        answer = link.getresponse()
        data = b"" if path == "/api/events" else answer.read()
        link.close()
        return answer.status, answer.headers, data


def _nginx() -> str:
    return shutil.which("nginx") or "/usr/sbin/nginx"


def _free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return probe.getsockname()[1]


@pytest.fixture(scope="module")
def proxied(tmp_path_factory: pytest.TempPathFactory):
    site = Proxied(tmp_path_factory.mktemp("site"))
    try:
        site.it.manage("migrate", "--verbosity", "0")
        site.it.manage("person", "add", "mira", settings={"LUCID_RELIC_PASSWORD": PASSWORD})
        site.it.start()
        yield site
    finally:
        site.it.stop()
        site.nginx.terminate()
        site.nginx.wait(10)


def cookies_of(headers: http.client.HTTPMessage) -> dict[str, str]:
    return {c.split("=")[0]: c for c in headers.get_all("Set-Cookie") or ()}


def signed_in(site: Proxied) -> tuple[dict[str, str], dict[str, str]]:
    """Cookie header and token, and the cookies as they were set."""
    _, headers, _ = site.ask("GET", "/api/session")
    token = cookies_of(headers)["csrftoken"].split(";")[0]
    told = {"Cookie": token, "X-CSRFToken": token.split("=")[1], "Referer": f"https://{NAME}/",
            "Content-Type": "application/json"}  # fmt: skip
    status, headers, body = site.ask(
        "POST", "/api/session", f'{{"username": "mira", "password": "{PASSWORD}"}}', **told
    )
    assert status == 200, body
    kept = cookies_of(headers)
    jar = "; ".join(c.split(";")[0] for c in kept.values())
    told |= {"Cookie": jar, "X-CSRFToken": kept["csrftoken"].split(";")[0].split("=")[1]}
    return told, kept


def test_the_documented_set_up_passes_the_checks_for_deployment(proxied: Proxied) -> None:
    answer = proxied.it.manage("check", "--deploy", "--fail-level", "WARNING")
    assert answer.returncode == 0, answer.stderr


def test_cookies_travel_by_tls_alone_and_the_page_says_so(proxied: Proxied) -> None:
    _, kept = signed_in(proxied)
    assert "Secure" in kept["sessionid"] and "HttpOnly" in kept["sessionid"] and "SameSite=Lax" in kept["sessionid"]
    assert "Secure" in kept["csrftoken"]
    status, headers, _ = proxied.ask("GET", "/")
    assert status == 200 and "max-age=31536000" in headers["Strict-Transport-Security"]
    # Whoever reaches the application past the proxy, without TLS, is sent away.
    direct = Caller(proxied.it.port).ask("GET", "/api/session", headers={"Host": NAME})
    assert direct.status == 301 and direct.headers["location"].startswith("https://")
    assert Caller(proxied.it.port).ask("GET", "/api/health").status == 200


def test_changes_need_the_site_as_their_origin(proxied: Proxied) -> None:
    told, _ = signed_in(proxied)
    made = proxied.ask("POST", "/api/objects", '{"title": "Keel bolt"}', **told)
    assert made[0] == 201, made
    foreign = proxied.ask("POST", "/api/objects", '{"title": "x"}', **{**told, "Referer": "https://evil.example/"})
    assert foreign[0] == 403
    assert proxied.ask("GET", "/api/objects", **{**told, "Host": "evil.example"})[0] in (400, 404, 421)


def test_each_browser_behind_the_proxy_has_an_address_of_its_own(proxied: Proxied) -> None:
    told, _ = signed_in(proxied)
    rows = proxied.it.rows("SELECT DISTINCT ip_address FROM axes_accesslog")
    assert rows == [("127.0.0.1",)]
    forged = {**told, "X-Forwarded-For": "203.0.113.7"}
    proxied.ask("POST", "/api/session", f'{{"username": "mira", "password": "{PASSWORD}"}}', **forged)
    assert proxied.it.rows("SELECT DISTINCT ip_address FROM axes_accesslog") == rows


def test_streams_pass_the_proxy_at_once_and_uploads_unbuffered(proxied: Proxied) -> None:
    told, _ = signed_in(proxied)
    began = time.monotonic()
    status, headers, _ = proxied.ask("GET", "/api/events", Cookie=told["Cookie"])
    assert status == 200 and headers["Content-Type"] == "text/event-stream" and time.monotonic() - began < 5
    kind = {"Content-Type": "application/zip", "Content-Length": str(6 * 2**30)}
    assert (
        proxied.ask("POST", "/api/objects/00000000-0000-4000-8000-000000000000/imports?name=a.zip", "", **kind)[0]
        == 403
    )


def test_a_socket_opens_through_the_proxy_and_closes_with_the_sign_out(proxied: Proxied) -> None:
    from websockets.exceptions import ConnectionClosed
    from websockets.sync.client import connect

    told, _ = signed_in(proxied)
    made = proxied.ask("POST", "/api/objects", '{"title": "Net weight"}', **told)
    object_id = re.search(rb'"id":"([0-9a-f-]+)"', made[2])[1].decode()
    raw = socket.create_connection(("127.0.0.1", proxied.port))
    with connect(
        f"wss://{NAME}/ws/objects/{object_id}", sock=raw, ssl=proxied.context, server_hostname=NAME,
        origin=f"https://{NAME}", additional_headers={"Cookie": told["Cookie"]},
    ) as bench:  # fmt: skip
        assert "live" in bench.recv(timeout=20)
        assert proxied.ask("DELETE", "/api/session", **told)[0] == 200
        with pytest.raises(ConnectionClosed) as closed:
            while True:
                bench.recv(timeout=10)
        assert closed.value.rcvd.code == 4403


def test_logs_hold_no_secrets(proxied: Proxied, plain: Installation) -> None:
    for it in (proxied.it, plain):
        text = (it.data / "serve.log").read_text()
        assert PASSWORD not in text and "sessionid" not in text and "csrftoken" not in text
    assert os.stat(proxied.it.data / "secret.key").st_mode & 0o077 == 0
