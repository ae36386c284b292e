"""A workshop in the database, and a client signed in to it."""

import pytest

from bold_anode.accounts import arriving
from bold_anode.amps.operations import create_project
from bold_anode.tasks.models import Work
from bold_anode.tasks.operations import do_work
from thermionic import examples


@pytest.fixture(autouse=True)
def _web(db, plain_static, settings):
    """Every test here uses the database and renders pages; passwords need not be slow to guess."""
    settings.PASSWORD_HASHERS = ["django.contrib.auth.hashers.MD5PasswordHasher"]


@pytest.fixture
def owner(django_user_model):
    return django_user_model.objects.create_user("ada", password="a-long-password")


@pytest.fixture
def stranger(django_user_model):
    return django_user_model.objects.create_user("eve", password="a-long-password")


@pytest.fixture
def project(owner):
    return create_project(owner, examples.example("lantern"))


@pytest.fixture
def bench(client, owner):
    client.force_login(owner)
    return client


@pytest.fixture
def worker(monkeypatch):
    """Does what work has been asked for, as a worker process would, but in this one: another would not see what a
    test has stored."""
    monkeypatch.setattr(arriving, "apart", lambda function, *args, **limits: function(*args))

    def work():
        for one in Work.objects.under_way():
            do_work(one.pk)

    return work
