from django.db import migrations, models

from bold_anode.frame.bounds import Between, moments


class Migration(migrations.Migration):
    initial = True
    dependencies = [("amps", "0005_bounds")]
    operations = [
        migrations.CreateModel(
            "Note",
            [
                ("id", models.BigAutoField(primary_key=True)),
                ("project", models.ForeignKey("amps.project", models.CASCADE, related_name="notes")),
                ("revision", models.ForeignKey("amps.revision", models.PROTECT, related_name="+")),
                ("text", models.CharField(max_length=100)),
                ("count", models.PositiveIntegerField(default=1)),
                ("made_at", models.DateTimeField(auto_now_add=True)),
            ],
            {"constraints": [Between("count", 1, 1000), *moments("made_at")]},
        )
    ]
