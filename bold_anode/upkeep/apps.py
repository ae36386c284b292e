from django.apps import AppConfig


class UpkeepConfig(AppConfig):
    name = "bold_anode.upkeep"
