# Dates, where somebody writes them.
from clock import Clock


def day_of(year, month, date):
    # Days since the first of January 2000.
    year -= month < 3
    month = (month + 9) % 12
    return 365 * (year - 2000) + year // 4 - year // 100 + year // 400 - 485 + (153 * month + 2) // 5 + date + 59


def date_of(day):
    # Year, month and date.
    year, month = 2000 + day * 4 // 1461, 12
    while day_of(year, month, 1) > day:
        month -= 1
    return year, month, day - day_of(year, month, 1) + 1


def clock_text(clock):
    # The moment for people and tables: 2026-11-27 22:40:05.
    clock.go_on()
    minute = clock.minute
    return "%04d-%02d-%02d %02d:%02d:%02d" % (date_of(clock.day) + (minute // 60, minute % 60, clock.second % 60))


Clock.text = clock_text  # type: ignore
