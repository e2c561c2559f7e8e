/* A pressure gauge: a running mean and a depth from it. */
#ifndef GAUGE_H
#define GAUGE_H
struct gauge { double sum; double last[8]; int count; };
/* Takes a reading in hPa; returns the mean of the last eight. */
double gauge_take(struct gauge *gauge, double hectopascal);
/* Metres of sea water above the sensor. */
double depth(double hectopascal, double surface);
#endif
