"""Who may do what: every address of the schema, eight kinds of people, every method; sharing and links."""

import json
import uuid
from datetime import timedelta
from pathlib import Path

import pytest
import yaml
from django.contrib.auth import get_user_model
from django.test import Client
from django.utils import timezone
from scenes import state_of_points

from accounts.visitors import KEY
from instruments.models import Check
from jobs.models import Job
from objects import actions
from objects.models import Capture, LookLink, ScanObject, Share

pytestmark = [pytest.mark.django_db(transaction=True), pytest.mark.usefixtures("maker")]
SCHEMA = yaml.safe_load((Path(__file__).resolve().parents[2] / "docs" / "openapi.yaml").read_text())
METHODS = ("GET", "POST", "PATCH", "DELETE", "PUT", "HEAD", "OPTIONS")
PEOPLE = ("owner", "worker", "looker", "visitor", "other", "nobody", "expired", "kept out")
INSIDE = ("owner", "worker", "looker", "visitor")
OPEN = ("/api/session", "/api/health", "/api/look")
OF_INSTRUMENTS = tuple(
    path for path in SCHEMA["paths"] if path.startswith(("/api/instruments", "/api/checks", "/api/set-ups"))
)
OF_RECIPES = tuple(path for path in SCHEMA["paths"] if path.startswith("/api/recipes"))
OF_NO_OBJECT = (
    *OPEN,
    *OF_INSTRUMENTS,
    *OF_RECIPES,
    "/api/jobs/order",
    "/api/catalogue",
    "/api/objects",
    "/api/jobs",
    "/api/events",
)
FOR_OWNERS = ("/sharing",)
REFUSED = (403, 404)


class Museum:
    """One object, everything of it that has an address, and everybody who may stand before it."""

    def __init__(self) -> None:
        person = get_user_model().objects.create_user
        self.people = {name: person(name.replace(" ", "-")) for name in PEOPLE}
        owner = self.people["owner"]
        self.scan_object = actions.create_object(owner, "Keel bolt")
        done = actions.FinishedStep(
            {"operation": "fuse", "title": "Fuse", "stage": "fuse", "parameters": {}}, {}, 1.0, owner.id, None
        )
        step = actions.record_step(self.scan_object.pk, None, state_of_points(50), done)
        capture = Capture.objects.create(scan_object=self.scan_object, title="upright", frames=1, state="complete")
        upload = actions.begin_upload(self.scan_object.pk, owner, "scan.ply", 100)
        job = Job.objects.create(scan_object=self.scan_object, who=owner, kind="recipe", title="x", state="failed")
        self.share = actions.share_with(self.scan_object.pk, owner, "worker", "work")
        actions.share_with(self.scan_object.pk, owner, "looker", "look")
        self.link, self.secret = actions.make_link(self.scan_object.pk, owner, 5, "the lender")
        self.old, _ = actions.make_link(self.scan_object.pk, owner, 5, "")
        LookLink.objects.filter(pk=self.old.pk).update(expires=timezone.now() - timedelta(days=1))
        get_user_model().objects.filter(username="kept-out").update(is_active=False)
        self.ids = {
            "object_id": str(self.scan_object.pk), "snapshot_id": str(step.after_id), "capture_id": str(capture.pk),
            "job_id": str(job.pk), "share_id": str(self.share.pk), "link_id": str(self.link.pk), "number": "0", "other": "0", "what": "rims",
            "upload_id": str(upload.pk), "index": "0", "kind": "points", "action": "again", "name": "desk", "act": "ask", "set_up_id": "1",
            "branch_id": "1", "accepted_id": "1", "other_id": str(step.after_id), "recipe_id": str(uuid.uuid4()),
            "check_id": str(Check.objects.create(instrument="desk", kind="card", state="done").pk),
        }  # fmt: skip

    def client(self, name: str) -> Client:
        client = Client()
        if name in ("visitor", "expired"):
            session = client.session
            session[KEY] = [self.link.pk if name == "visitor" else self.old.pk]
            session.save()
        elif name != "nobody":
            client.force_login(self.people[name], backend="django.contrib.auth.backends.ModelBackend")
        return client


@pytest.fixture
def museum() -> Museum:
    return Museum()


BODIES = {
    "/api/objects": {"title": "x"}, "/api/objects/{object_id}": {"title": "y"},
    "/api/objects/{object_id}/captures": {"title": "x", "stops": 3, "model": "tile"},
    "/api/objects/{object_id}/runs": {"operation": "fuse"},
    "/api/objects/{object_id}/sharing/people": {"username": "other", "role": "look"},
    "/api/objects/{object_id}/sharing/links": {"days": 3}, "/api/look": {"secret": "none"},
    "/api/session": {"username": "owner", "password": "wrong"},
}  # fmt: skip


def ask(museum: Museum, client: Client, method: str, address: str):
    path = address.format(**museum.ids)
    if address.endswith("/imports"):
        return client.generic(method, f"{path}?name=a.zip", b"no zip", content_type="application/zip")
    return client.generic(method, path, json.dumps(BODIES.get(address, {})), content_type="application/json")


@pytest.mark.parametrize("address", sorted(SCHEMA["paths"]))
def test_everybody_gets_what_they_may_and_nothing_else(museum: Museum, address: str) -> None:
    known = {m.upper() for m in SCHEMA["paths"][address]}
    of_an_object = address not in OF_NO_OBJECT
    for name in PEOPLE:
        client = museum.client(name)
        for method in METHODS:
            if (address, method) in (("/api/objects/{object_id}", "DELETE"), ("/api/session", "DELETE")):
                continue  # they end what the others are asked about; tested below and in test_api
            answer = ask(museum, client, method, address)
            status, said = answer.status_code, (name, method, address, answer.status_code)
            if address == "/api/events" and method == "GET" and status == 200:
                continue  # a stream without an end
            answer.close()
            assert status < 500 or address == "/api/health", said
            if method in known:
                assert str(status) in SCHEMA["paths"][address][method.lower()]["responses"], said
            elif method not in ("HEAD", "OPTIONS"):
                assert status in (403, 404, 405), said
            if 400 <= status < 500 and method != "HEAD" and status != 416:
                assert answer["Content-Type"] == "application/json" and answer.json()["error"], said
            if name in ("nobody", "kept out") and address not in OPEN:
                assert status in (403, 405), said
            if of_an_object and name not in INSIDE and method not in ("OPTIONS",):
                assert status in (*REFUSED, 405), said
            changes = method in known and method not in ("GET", "HEAD")
            if of_an_object and changes and name in ("looker", "visitor"):
                assert status in REFUSED, said  # the owner took the visitor's link back on the way
            if address in OF_RECIPES and changes and name in ("visitor", "expired") and "judged" not in address:
                assert status == 403, said
            if address in OF_INSTRUMENTS and name in ("visitor", "expired") and method in known:
                assert status == 403, said
            if any(part in address for part in FOR_OWNERS) and method in known and name != "owner":
                assert status in REFUSED, said
            if of_an_object and name == "owner" and method in known:
                assert status not in (401, 403), said


def test_only_the_owner_deletes(museum: Museum) -> None:
    path = f"/api/objects/{museum.ids['object_id']}"
    for name in PEOPLE[1:]:
        assert museum.client(name).delete(path).status_code in REFUSED
    assert (
        museum.client("owner").delete(path).status_code == 204 and not ScanObject.objects.filter(deleted=None).exists()
    )
    assert museum.client("worker").get(path).status_code == museum.client("owner").get(path).status_code == 404
    for name in PEOPLE[1:]:
        assert museum.client(name).post(f"{path}/back").status_code in REFUSED
    assert museum.client("owner").post(f"{path}/back").status_code == 200
    assert museum.client("worker").get(path).status_code == 200


def test_a_share_is_given_changed_and_taken_back(museum: Museum) -> None:
    owner, path = museum.client("owner"), f"/api/objects/{museum.ids['object_id']}"

    def share(username: str, role: str):
        body = json.dumps({"username": username, "role": role})
        return owner.post(f"{path}/sharing/people", body, content_type="application/json")

    other = museum.client("other")
    assert other.get(path).status_code == 404 and other.get("/api/objects").json() == []
    made = share("other", "look")
    assert made.status_code == 201 and other.get(path).json()["role"] == "look"
    (item,) = other.get("/api/objects").json()
    assert (item["role"], item["owner"]) == ("look", "owner")
    assert other.post(f"{path}/undo").status_code == 403
    assert share("other", "work").json()["id"] == made.json()["id"] and other.post(f"{path}/undo").status_code == 200
    assert owner.delete(f"{path}/sharing/people/{made.json()['id']}").status_code == 204
    assert other.get(path).status_code == 404 and Share.objects.count() == 2
    for wrong, says in (("nobody-there", "nobody here"), ("owner", "yours already")):
        refused = share(wrong, "look")
        assert refused.status_code == 400 and says in refused.json()["error"]


def test_a_link_opens_in_any_browser_until_it_is_taken_back(museum: Museum) -> None:
    path, guest = f"/api/objects/{museum.ids['object_id']}", Client()
    assert guest.get(path).status_code == 403
    for wrong in ("", "x" * 101, "guess"):
        body = json.dumps({"secret": wrong})
        assert guest.post("/api/look", body, content_type="application/json").status_code in (400, 404)
    body = json.dumps({"secret": museum.secret})
    opened = guest.post("/api/look", body, content_type="application/json")
    assert opened.json() == {"object_id": museum.ids["object_id"]}
    assert guest.get("/api/session").json()["visitor"] and guest.get(path).json()["role"] == "look"
    taken = guest.get(f"{path}/download/points")
    taken.close()
    assert taken.status_code == 200
    assert guest.get(f"/api/objects/{uuid.uuid4()}").status_code == 404
    owner = museum.client("owner")
    listed = owner.get(f"{path}/sharing").json()["links"]
    assert [link["note"] for link in listed] == ["the lender"] and museum.secret not in str(listed)
    assert owner.delete(f"{path}/sharing/links/{listed[0]['id']}").status_code == 204
    assert guest.get(path).status_code == 404
    again = Client().post("/api/look", body, content_type="application/json")
    assert again.status_code == 404 and "taken back" in again.json()["error"]
