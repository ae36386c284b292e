from django.apps import AppConfig


class IronConfig(AppConfig):
    name = "bold_anode.iron"

    def ready(self) -> None:
        from bold_anode.amps import studies
        from bold_anode.amps.rooms import Group, Room, register
        from bold_anode.frame import carried, samples
        from bold_anode.iron import sample
        from bold_anode.iron.carrying import IRON, ORIGINS
        from bold_anode.iron.studies import STUDIES
        from bold_anode.iron.views import draw

        question = "Which output transformer, which taps, and what does the tube see?"
        register(Room("iron", "Iron", question, draw, Group.DESIGN, 3))
        studies.register(*STUDIES)
        carried.register(IRON, ORIGINS)
        samples.register(demo=sample.fill_demo, addressed=sample.addressed)
