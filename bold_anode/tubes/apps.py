from django.apps import AppConfig


class TubesConfig(AppConfig):
    name = "bold_anode.tubes"
