from django.apps import AppConfig


class AmpsConfig(AppConfig):
    name = "bold_anode.amps"
