"""What the tests of the web application share."""

import pytest


@pytest.fixture
def plain_static(settings):
    """Static files by their own names, so that pages render without having been collected."""
    settings.STORAGES = {
        **settings.STORAGES,
        "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
    }
