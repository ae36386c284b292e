from django.apps import AppConfig


class BriefConfig(AppConfig):
    name = "bold_anode.brief"

    def ready(self) -> None:
        from bold_anode.amps import studies
        from bold_anode.amps.rooms import Group, Room, register
        from bold_anode.brief.choosing import STUDY
        from bold_anode.brief.views import draw

        register(
            Room(
                "brief",
                "Brief",
                "What am I building, for which loudspeakers, source and house?",
                draw,
                Group.DESIGN,
                1,
            )
        )
        studies.register(STUDY)
