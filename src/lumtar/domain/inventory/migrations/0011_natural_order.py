from django.contrib.postgres.operations import CreateCollation
from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("inventory", "0010_more_parts")]

    operations = [CreateCollation("natural", provider="icu", locale="en-u-kn-true")]
