from django.apps import AppConfig


class PowerupConfig(AppConfig):
    name = "bold_anode.powerup"

    def ready(self) -> None:
        from bold_anode.amps.rooms import Group, Room, register
        from bold_anode.frame import carried, samples
        from bold_anode.powerup import sample
        from bold_anode.powerup.carrying import READINGS
        from bold_anode.powerup.operations import LIKELY_FAULTS, solve_faults
        from bold_anode.powerup.views import draw
        from bold_anode.tasks import kinds

        register(Room("power-up", "Power-up", "Do the voltages allow the next step?", draw, Group.BENCH, 1))
        kinds.register(LIKELY_FAULTS, solve_faults)
        carried.register(READINGS)
        samples.register(demo=sample.fill_demo, addressed=sample.addressed)
