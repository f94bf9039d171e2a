#include "notebook.h"

#include <stdlib.h>
#include <time.h>

static int by_minute(const void *a, const void *b) {
	return ((const struct sighting *)a)->minute - ((const struct sighting *)b)->minute;
}

void sort_sightings(struct sighting *list, int n) {
	qsort(list, n, sizeof *list, by_minute);
}

int count_species(const struct sighting *list, int n) {
	unsigned long seen = 0;
	for (int i = 0; i < n; i++)
		seen |= 1ul << (list[i].species % 64);
	return __builtin_popcountl(seen);
}

long now_ms(void) {
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec * 1000 + t.tv_nsec / 1000000;
}
