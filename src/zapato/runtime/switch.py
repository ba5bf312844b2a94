# A digital input that counts a new level only after it has stood for a while.
from machine import Pin

POLL = 10  # ms between looks at a pin without interrupt


class Switch:
    props = ()
    sets = ()
    timed = ()

    def __init__(self, d, name, gpio, pull, active, settle, poll, prop, into, out):
        self.d = d
        self.name = name
        self.active = active
        self.settle = settle
        self.prop = prop
        self.props = (prop,)
        self.words = (out, into)
        if pull:
            self.pin = Pin(gpio, Pin.IN, Pin.PULL_UP if pull == 1 else Pin.PULL_DOWN)
        else:
            self.pin = Pin(gpio, Pin.IN)
        self.timer = None
        self.edge = False
        self.state = self.read()
        setattr(self, prop, self.state)
        if poll:
            self.raw = self.state
            d.after(POLL, self.sample)
        else:
            d.inputs.append(self)
            self.pin.irq(self.interrupt, Pin.IRQ_RISING | Pin.IRQ_FALLING)

    def read(self):
        return self.pin.value() == self.active

    def interrupt(self, pin):
        self.edge = True
        self.d.wake.up = 1

    def look(self):
        if self.edge:
            self.edge = False
            self.wait()

    def sample(self):
        level = self.read()
        if level != self.raw:
            self.raw = level
            self.wait()
        self.d.after(POLL, self.sample)

    def wait(self):
        self.d.cancel(self.timer)
        self.timer = self.d.after(self.settle, self.settled)

    def settled(self):
        level = self.read()
        if level != self.state:
            self.state = level
            setattr(self, self.prop, level)
            self.d.changed(self, self.prop)
            self.d.emit(self, self.words[level])
            self.moved(level)

    def moved(self, level):
        pass

    def do(self, action):
        return False
