# Dates, where somebody writes them.
from clock import Clock, day_of, year_of


def date_of(day):
    # Year, month and date.
    year, month = year_of(day), 12
    while day_of(year, month, 1) > day:
        month -= 1
    return year, month, day - day_of(year, month, 1) + 1


def clock_text(clock):
    # The moment for people and tables: 2026-11-27 22:40:05.
    clock.go_on()
    minute = clock.minute
    return "%04d-%02d-%02d %02d:%02d:%02d" % (date_of(clock.day) + (minute // 60, minute % 60, clock.second % 60))


Clock.text = clock_text  # type: ignore
