/* Tide heights by harmonic constituents: each constituent is a cosine with a speed that astronomy gives and an
 * amplitude and phase that are a harbour's own. Schureman, Manual of Harmonic Analysis and Prediction of Tides, 1958. */
#ifndef TIDEWICK_TIDE_H
#define TIDEWICK_TIDE_H

typedef struct {
    double speed;     /* degrees per hour */
    double amplitude; /* metres */
    double phase;     /* degrees, at hour 0 */
} tide_constituent;

typedef struct {
    const char *name;
    double mean;      /* mean level above chart datum, metres */
    int count;
    tide_constituent constituents[8];
} tide_station;

typedef struct {
    double hour;
    double height; /* metres above chart datum */
    int high;      /* 1 for high water, 0 for low water */
} tide_extreme;

/* Height in metres at an hour since the station's epoch. */
double tide_height(const tide_station *station, double hour);

/* High and low waters in [from, to), in order; returns how many were found, at most most. */
int tide_extremes(const tide_station *station, double from, double to, tide_extreme *found, int most);

/* Mean range between high and low waters of a span, in metres; 0 when there are none. */
double tide_mean_range(const tide_station *station, double from, double to);

#endif
