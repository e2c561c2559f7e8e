/* Tides as a sum of harmonics. */
#ifndef TIDES_H
#define TIDES_H
struct harmonic { double amplitude, speed, phase; }; /* metres, degrees an hour, degrees */
double height(const struct harmonic *harmonics, int count, double hours);
/* The hour of the next high water at or after `from`, to the minute. */
double high_water(const struct harmonic *harmonics, int count, double from);
#endif
