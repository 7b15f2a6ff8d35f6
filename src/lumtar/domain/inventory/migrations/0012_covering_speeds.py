from django.db import migrations, models


class Migration(migrations.Migration):
    dependencies = [
        ("inventory", "0011_natural_order"),
    ]

    operations = [
        migrations.RemoveIndex(
            model_name="interfacespeed",
            name="inventory_i_interfa_a39786_idx",
        ),
        migrations.AddIndex(
            model_name="interfacespeed",
            index=models.Index(
                fields=["interface", "-since"], include=("in_bps", "out_bps"), name="speeds_of_interfaces"
            ),
        ),
    ]
