/* A pressure barometer: a running mean and a depth from it. */
#ifndef GAUGE_H
#define GAUGE_H
struct barometer { double sum; double last[8]; int count; };
/* Takes a reading in hPa; returns the mean of the last eight. */
double barometer_take(struct barometer *barometer, double hectopascal);
/* Metres of sea water above the sensor. */
double depth(double hectopascal, double surface);
#endif
