from django.apps import AppConfig


class ChainConfig(AppConfig):
    name = "bold_anode.chain"

    def ready(self) -> None:
        from bold_anode.amps import studies
        from bold_anode.amps.rooms import Group, Room, register
        from bold_anode.chain.studies import STUDIES
        from bold_anode.chain.views import draw

        register(
            Room(
                "chain",
                "Chain",
                "What does each stage do, and does the next one get what it needs?",
                draw,
                Group.DESIGN,
                2,
                main=True,
            )
        )
        studies.register(*STUDIES)
