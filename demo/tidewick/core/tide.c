#include "tide.h"

/* Declared here and not by a header: the same file is compiled for systems whose headers are not at hand. */
double cos(double);
double sin(double);

static const double radians_per_degree = 0.017453292519943295;

double tide_height(const tide_station *station, double hour) {
    double height = station->mean;
    for (int i = 0; i < station->count; i++) {
        const tide_constituent *c = &station->constituents[i];
        height += c->amplitude * cos((c->speed * hour - c->phase) * radians_per_degree);
    }
    return height;
}

/* Rate of change in metres per hour. */
static double rate(const tide_station *station, double hour) {
    double sum = 0;
    for (int i = 0; i < station->count; i++) {
        const tide_constituent *c = &station->constituents[i];
        sum -= c->amplitude * c->speed * radians_per_degree * sin((c->speed * hour - c->phase) * radians_per_degree);
    }
    return sum;
}

/* Where the rate changes sign between two hours, to about a second, by halving. */
static double turning(const tide_station *station, double lo, double hi) {
    double before = rate(station, lo);
    while (hi - lo > 0.0002) {
        double mid = (lo + hi) / 2, here = rate(station, mid);
        if ((before > 0) == (here > 0)) {
            lo = mid;
        } else {
            hi = mid;
        }
    }
    return (lo + hi) / 2;
}

int tide_extremes(const tide_station *station, double from, double to, tide_extreme *found, int most) {
    const double step = 0.25;
    int n = 0;
    double before = rate(station, from);
    for (double hour = from + step; hour < to + step && n < most; hour += step) {
        double end = hour < to ? hour : to, here = rate(station, end);
        if ((before > 0) != (here > 0)) {
            double at = turning(station, end - step, end);
            if (at < to) {
                found[n].hour = at;
                found[n].height = tide_height(station, at);
                found[n].high = before > 0;
                n++;
            }
        }
        before = here;
    }
    return n;
}

double tide_mean_range(const tide_station *station, double from, double to) {
    tide_extreme found[64];
    int n = tide_extremes(station, from, to, found, 64), pairs = 0;
    double sum = 0;
    for (int i = 1; i < n; i++, pairs++) {
        double range = found[i].height - found[i - 1].height;
        sum += range < 0 ? -range : range;
    }
    return pairs ? sum / pairs : 0;
}
