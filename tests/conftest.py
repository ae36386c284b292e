"""What the tests of the web application share."""

import pytest


@pytest.fixture
def plain_static(settings, tmp_path):
    """Static files by their own names, so that pages render without having been collected."""
    settings.STATIC_ROOT = tmp_path
    settings.STORAGES = {
        **settings.STORAGES,
        "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
    }
