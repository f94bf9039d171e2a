#ifndef TIDEWICK_STATIONS_H
#define TIDEWICK_STATIONS_H

#include "tide.h"

/* The harbours of the almanac; made from the depot's packages by tools/make-stations. */
extern const tide_station tide_stations[];
extern const int tide_station_count;

#endif
