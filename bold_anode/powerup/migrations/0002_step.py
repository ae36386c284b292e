"""A stage is a tube's; the power-up has steps."""

from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("powerup", "0001_initial")]

    operations = [migrations.RenameField("readingset", "stage", "step")]
