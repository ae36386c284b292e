from django.apps import AppConfig


class RailsConfig(AppConfig):
    name = "bold_anode.rails"

    def ready(self) -> None:
        from bold_anode.amps import studies
        from bold_anode.amps.rooms import Group, Room, register
        from bold_anode.frame import carried, samples
        from bold_anode.rails import nulls, playing, sample, schools
        from bold_anode.rails.carrying import MAINS
        from bold_anode.rails.heaters import draw as draw_heaters
        from bold_anode.rails.studies import STUDIES
        from bold_anode.rails.views import draw as draw_rails

        register(
            Room(
                "rails",
                "Rails",
                "Where does every HT, screen and bias voltage come from?",
                draw_rails,
                Group.DESIGN,
                4,
            )
        )
        register(
            Room("heaters", "Heaters", "Is every heater fed, balanced and referenced?", draw_heaters, Group.DESIGN, 5)
        )
        studies.register(*STUDIES, *nulls.STUDIES, *playing.STUDIES, schools.STUDY)
        carried.register(MAINS)
        samples.register(addressed=sample.addressed)
