"""What this machine lacks is a page and a 503 with its reason, and who makes accounts is for its owner to say."""

import errno

import psycopg
import pytest
from django.core.management import call_command
from django.db import OperationalError, connection
from django.http import HttpResponse

from bold_anode.accounts.models import Invitation, SignedIn, SignUpFrom
from bold_anode.accounts.operations import SIGN_UPS_AN_HOUR, invite, tidy
from bold_anode.amps import views
from bold_anode.amps.rooms import rooms

RESISTOR = {"path": "blocks/output/cathode_resistor/ohm", "value": "810"}


def dead(*args, **options):
    raise OperationalError("connection refused")


def full(*args, **options):
    try:
        raise psycopg.errors.DiskFull("could not extend file")
    except psycopg.errors.DiskFull as fault:
        raise OperationalError(str(fault)) from fault


def no_room(*args, **options):
    raise OSError(errno.ENOSPC, "No space left on device")


def broken(*args, **options):
    raise ZeroDivisionError


@pytest.mark.parametrize(
    ("fault", "status", "says"),
    [(dead, 503, "database does not answer"), (full, 503, "disk of this machine is full"), (no_room, 503, "disk"),
     (broken, 500, "our fault")],
)  # fmt: skip
def test_what_the_machine_lacks_is_said_and_is_not_our_fault(bench, project, monkeypatch, fault, status, says):
    bench.raise_request_exception = False
    monkeypatch.setattr(views.operations, "change_design", fault)
    where = f"/amps/{project.pk}/chain/change/"
    page = bench.post(where, RESISTOR)
    assert (page.status_code, says in page.content.decode()) == (status, True)
    piece = bench.post(where, RESISTOR, HTTP_HX_REQUEST="true")
    assert piece.status_code == status
    if status == 503:
        assert (piece["HX-Retarget"], piece["Retry-After"]) == ("#notice", "10")
        assert "<html" not in piece.content.decode()


def test_without_a_database_even_who_is_signed_in_is_not_asked_for(bench, project, monkeypatch):
    bench.raise_request_exception = False
    with monkeypatch.context() as without:
        without.setattr(connection, "cursor", dead)
        for where in ("/", "/account/", f"/amps/{project.pk}/chain/"):
            page = bench.get(where)
            assert (page.status_code, "What was stored is as it was" in page.content.decode()) == (503, True)
    assert bench.get("/").status_code == 200


def test_a_room_that_fails_leads_to_the_others_and_can_undo(bench, project, monkeypatch):
    bench.raise_request_exception = False
    bench.post(f"/amps/{project.pk}/chain/change/", RESISTOR)
    room = next(room for room in rooms() if room.slug == "chain")
    monkeypatch.setitem(room.__dict__, "draw", broken)
    page = bench.get(f"/amps/{project.pk}/chain/")
    text = page.content.decode()
    assert page.status_code == 500
    assert "an error of ours" in text
    assert f"/amps/{project.pk}/chain/undo/" in text
    assert f"/amps/{project.pk}/export/" in text
    assert bench.get(f"/amps/{project.pk}/rails/").status_code == 200


# Who makes accounts.

FORM = {"password1": "quite-some-thing", "password2": "quite-some-thing"}


def sign_up(client, name, address="127.0.0.1", **more) -> HttpResponse:
    client.logout()
    return client.post("/sign-up/", {"username": name, **FORM, **more}, REMOTE_ADDR=address)


def test_accounts_are_made_by_everybody_by_invitation_or_by_nobody(client, settings, django_user_model, capsys):
    assert settings.SIGN_UP == "open"  # on loopback
    assert sign_up(client, "one").status_code == 302
    settings.SIGN_UP = "closed"
    assert "Nobody makes an account here" in sign_up(client, "two").content.decode()
    assert "Make an account" not in client.get("/sign-in/").content.decode()
    settings.SIGN_UP = "invitation"
    assert sign_up(client, "two", invitation="guessed").status_code == 422
    call_command("invite")
    token = capsys.readouterr().out.split("invitation=")[1].split()[0]
    assert token in client.get(f"/sign-up/?invitation={token}").content.decode()
    assert sign_up(client, "t", invitation=token, password2="other").status_code == 422  # and is not used up
    assert sign_up(client, "two", invitation=token).status_code == 302
    assert sign_up(client, "three", invitation=token).status_code == 422
    old = invite()
    Invitation.objects.filter(pk=old.pk).update(made_at=old.made_at - Invitation.VALID)
    assert sign_up(client, "three", invitation=old.token).status_code == 422
    tidy()
    assert Invitation.objects.count() == 0
    assert set(django_user_model.objects.values_list("username", flat=True)) == {"one", "two"}


def test_an_address_elsewhere_makes_so_many_accounts_an_hour(client, django_user_model):
    made = [sign_up(client, f"user{n}", "203.0.113.9").status_code for n in range(SIGN_UPS_AN_HOUR + 2)]
    assert made == [302] * SIGN_UPS_AN_HOUR + [422] * 2
    assert sign_up(client, "another", "203.0.113.10").status_code == 302
    for number in range(SIGN_UPS_AN_HOUR + 2):
        assert sign_up(client, f"home{number}", "127.0.0.1").status_code == 302
    SignUpFrom.objects.update(made_at="2026-01-01T00:00:00Z")
    tidy()
    assert sign_up(client, "later", "203.0.113.9").status_code == 302


def test_a_session_knows_whose_it_is_and_goes_with_the_account(client, owner):
    client.force_login(owner)
    assert SignedIn.objects.get().account == owner
    owner.delete()
    assert SignedIn.objects.count() == 0
