from django.apps import AppConfig


class FrameConfig(AppConfig):
    name = "bold_anode.frame"
