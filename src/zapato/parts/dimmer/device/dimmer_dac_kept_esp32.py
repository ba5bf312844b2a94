# A level as a voltage that comes back after a power cut as it was.
from dimmer_dac import DacDimmer
from dimmer_kept import KeptDimmer


class KeptDacDimmer(KeptDimmer):
    drive = DacDimmer.drive
    power = DacDimmer.power
