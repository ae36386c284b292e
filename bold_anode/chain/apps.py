from django.apps import AppConfig


class ChainConfig(AppConfig):
    name = "bold_anode.chain"

    def ready(self) -> None:
        from bold_anode.amps.rooms import Room, register
        from bold_anode.chain.studies import STUDIES, do
        from bold_anode.chain.views import draw
        from bold_anode.tasks import kinds

        register(Room("chain", "Chain", "What does each stage do, and does the next one get what it needs?", draw))
        for study in STUDIES.values():
            kinds.register(study.kind, do)
