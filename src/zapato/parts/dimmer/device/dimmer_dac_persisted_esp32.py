# A level as a voltage that comes back after a power cut as it was.
from dimmer_dac import DacDimmer
from dimmer_persisted import PersistedDimmer


class PersistedDacDimmer(PersistedDimmer):
    drive = DacDimmer.drive
    power = DacDimmer.power
