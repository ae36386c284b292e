"""Findings: the application's opinion of a solved design. One rule a file, all listed here."""

from thermionic.amplifier import SolvedAmplifier
from thermionic.errors import BudgetSpent, NoSolution
from thermionic.findings.anode_dissipation import AnodeDissipation
from thermionic.findings.anode_voltage import AnodeVoltage
from thermionic.findings.base import Cure, Finding, Rule, Severity, applied, worst_first
from thermionic.findings.bias_wiper import BiasWiper
from thermionic.findings.capacitor_voltage import CapacitorVoltage
from thermionic.findings.cold_coupling import ColdCoupling
from thermionic.findings.converter import ConverterRange
from thermionic.findings.driven_heat import CathodeCurrent, DrivenHeat
from thermionic.findings.early_limit import StageGivesOut, WeakDriver
from thermionic.findings.feedback import FeedbackMargin, FeedbackPolarity
from thermionic.findings.gain import TotalGain
from thermionic.findings.grid_current import GridCurrent
from thermionic.findings.grid_leak import GridLeak
from thermionic.findings.grid_path import GridPath
from thermionic.findings.heater_cathode import HeaterCathode
from thermionic.findings.heaters import HeaterVoltage
from thermionic.findings.hum import Hum
from thermionic.findings.indicator import IndicatorCurrent
from thermionic.findings.iron import ChokeCurrent, CoreCurrent, CoreSize, WindingCurrent
from thermionic.findings.linear_regulator import LinearRange
from thermionic.findings.mains_side import EarthLeakage, FuseRating, LineCapacitor, TransformerLoad
from thermionic.findings.motorboating import Motorboating
from thermionic.findings.output_load import OutputLoad
from thermionic.findings.rectifier import FirstCapacitor, RectifierCurrent, RectifierReverse
from thermionic.findings.regulators import GasWindow, PassHeadroom, PassHeat, PassVoltage
from thermionic.findings.resistor_dissipation import ResistorDissipation
from thermionic.findings.screen import ScreenDissipation, ScreenVoltage
from thermionic.findings.sharing import Sharing
from thermionic.findings.smoothing import RippleCurrent, SeriesSharing
from thermionic.findings.splitter_balance import SplitterBalance
from thermionic.findings.standby import StandbySwitch
from thermionic.findings.unsettled import Unsettled

__all__ = ["RULES", "Cure", "Finding", "Rule", "Severity", "applied", "examine"]

RULES: tuple[Rule, ...] = (
    AnodeDissipation(),
    AnodeVoltage(),
    ResistorDissipation(),
    CapacitorVoltage(),
    GridLeak(),
    GridCurrent(),
    OutputLoad(),
    Hum(),
    ScreenDissipation(),
    ScreenVoltage(),
    HeaterCathode(),
    GridPath(),
    TotalGain(),
    SplitterBalance(),
    ColdCoupling(),
    FeedbackPolarity(),
    FeedbackMargin(),
    CathodeCurrent(),
    DrivenHeat(),
    Sharing(),
    WeakDriver(),
    StageGivesOut(),
    CoreCurrent(),
    ChokeCurrent(),
    CoreSize(),
    WindingCurrent(),
    RectifierReverse(),
    RectifierCurrent(),
    FirstCapacitor(),
    PassHeat(),
    PassVoltage(),
    PassHeadroom(),
    GasWindow(),
    FuseRating(),
    TransformerLoad(),
    EarthLeakage(),
    LineCapacitor(),
    HeaterVoltage(),
    BiasWiper(),
    SeriesSharing(),
    RippleCurrent(),
    StandbySwitch(),
    LinearRange(),
    IndicatorCurrent(),
    Motorboating(),
    ConverterRange(),
    Unsettled(),
)
if len({rule.name for rule in RULES}) != len(RULES):
    raise AssertionError("two rules share a name")


def examine(amplifier: SolvedAmplifier) -> list[Finding]:
    """Everything that any rule has to say, worst first; and which of them could not judge, where what one looks at
    (the lowest mains, say, or tubes that are pulled) has no solution. Raises NoSolution where the amplifier has no
    steady state when it is driven, BudgetSpent."""
    _ = amplifier.sweep
    findings: list[Finding] = []
    silent: dict[str, list[str]] = {}
    for rule in RULES:
        try:
            findings += rule.examine(amplifier)
        except BudgetSpent:
            raise
        except NoSolution as reason:
            silent.setdefault(str(reason), []).append(rule.name.replace("-", " "))
    for number, (why, names) in enumerate(silent.items(), 1):
        findings.append(_not_judged(amplifier, f"not-judged-{number}", names, why))
    return worst_first(findings)


def _not_judged(amplifier: SolvedAmplifier, key: str, names: list[str], reason: str) -> Finding:
    return Finding(
        key,
        Severity.POOR,
        f"blocks/{amplifier.load.block}",
        "",
        "Not judged: " + ", ".join(names),
        reason,
        "These look at the amplifier otherwise than as it usually stands: on the lowest or the highest mains, cold, "
        "or with tubes pulled. Where there is no steady state it goes on and off, or worse; it may also be the "
        "solver that gives up.",
        0.0,
        0.0,
    )
