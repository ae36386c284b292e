"""What all tests share."""

import pytest
from hypothesis import settings

# The same examples in every run, however busy the machine, so that a change is never refused for another's luck.
# To look for new ones: ./test tests/core --hypothesis-profile=explore
settings.register_profile("steady", deadline=None, derandomize=True)
settings.register_profile("explore", deadline=None)
settings.load_profile("steady")


@pytest.fixture
def plain_static(settings, tmp_path):
    """Static files by their own names, so that pages render without having been collected."""
    settings.STATIC_ROOT = tmp_path
    settings.STORAGES = {
        **settings.STORAGES,
        "staticfiles": {"BACKEND": "django.contrib.staticfiles.storage.StaticFilesStorage"},
    }
