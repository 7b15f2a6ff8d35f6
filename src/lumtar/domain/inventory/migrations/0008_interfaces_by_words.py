from django.contrib.postgres.operations import TrigramExtension
from django.db import migrations

MAKE = """
CREATE INDEX interfaces_by_words ON inventory_interface
USING gin ((label || ' ' || name || ' ' || alias || ' ' || descr || ' ' || role) gin_trgm_ops)
"""


class Migration(migrations.Migration):
    dependencies = [("inventory", "0007_interfaces_by_label")]

    operations = [TrigramExtension(), migrations.RunSQL(MAKE, "DROP INDEX interfaces_by_words")]
