from django.db import migrations


class Migration(migrations.Migration):
    dependencies = [("bakes", "0003_usd")]

    operations = [migrations.RenameField("bake", "turn_limit", "skin_limit")]
