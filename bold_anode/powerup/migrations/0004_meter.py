from django.contrib.postgres.operations import AddConstraintNotValid
from django.db import migrations, models


class Migration(migrations.Migration):

    dependencies = [
        ('powerup', '0003_bounds'),
    ]

    operations = [
        migrations.AddField(
            model_name='readingset',
            name='meter_ohm',
            field=models.FloatField(default=10000000.0),
        ),
        AddConstraintNotValid(
            model_name='readingset',
            constraint=models.CheckConstraint(condition=models.Q(('meter_ohm__gte', 1000.0), ('meter_ohm__lte', 1000000000000.0)), name='powerup_readingset_meter_ohm_bounds'),
        ),
    ]
