// Tests that need no framework: each is a function that says what is wrong, or nothing.
#include "notebook.h"

#include <stdio.h>
#include <string.h>
#include <time.h>

enum { MANY = 20000 };

static struct sighting list[MANY];

static void fill(int n) {
	unsigned state = 7;
	for (int i = 0; i < n; i++) {
		state = state * 1103515245 + 12345;
		list[i] = (struct sighting){.species = (state >> 16) % 41, .minute = (state >> 8) % 1440};
	}
}

static const char *an_empty_notebook(void) {
	sort_sightings(list, 0);
	return count_species(list, 0) == 0 ? NULL : "an empty notebook has species";
}

static const char *a_day_is_put_in_order(void) {
	fill(200);
	sort_sightings(list, 200);
	for (int i = 1; i < 200; i++)
		if (list[i - 1].minute > list[i].minute)
			return "a later sighting is before an earlier one";
	return NULL;
}

static const char *ten_years_are_put_in_order(void) {
	fill(MANY);
	sort_sightings(list, MANY);
	return list[0].minute <= list[MANY - 1].minute ? NULL : "the last is before the first";
}

static const char *species_are_counted_once(void) {
	fill(500);
	return count_species(list, 500) == 41 ? NULL : "not 41 species";
}

static const char *tags_are_words(void) {
	char tags[4][32];
	int n = tags_of("three avocets #wader, one with a ring #ringed", tags, 4);
	return n == 2 && !strcmp(tags[0], "wader") && !strcmp(tags[1], "ringed") ? NULL : "not the two tags";
}

static const char *a_lone_mark_is_no_tag(void) {
	char tags[4][32];
	return tags_of("hide # 3", tags, 4) == 0 ? NULL : "a lone mark is a tag";
}

// What is noted together has the same time: as long as the clock does not tick in between.
static const char *two_notes_at_once_have_one_time(void) {
	long first = now_ms();
	struct timespec from, t;
	clock_gettime(CLOCK_MONOTONIC, &from);
	do
		clock_gettime(CLOCK_MONOTONIC, &t);
	while ((t.tv_sec - from.tv_sec) * 1000000000L + t.tv_nsec - from.tv_nsec < 60000);
	return now_ms() == first ? NULL : "two notes at once have different times";
}

static const struct {
	const char *suite, *name;
	const char *(*run)(void);
} cases[] = {
	{"order", "an empty notebook", an_empty_notebook},
	{"order", "a day is put in order", a_day_is_put_in_order},
	{"order", "ten years are put in order", ten_years_are_put_in_order},
	{"species", "species are counted once", species_are_counted_once},
	{"tags", "tags are words", tags_are_words},
	{"tags", "a lone mark is no tag", a_lone_mark_is_no_tag},
	{"times", "two notes at once have one time", two_notes_at_once_have_one_time},
};

int main(int argc, char **argv) {
	FILE *out = fopen(argc > 1 ? argv[1] : "tests.xml", "w");
	if (!out)
		return 2;
	int failed = 0;
	fprintf(out, "<testsuite name=\"saltmarsh\">\n");
	for (unsigned i = 0; i < sizeof cases / sizeof *cases; i++) {
		struct timespec from, to;
		clock_gettime(CLOCK_MONOTONIC, &from);
		const char *wrong = cases[i].run();
		clock_gettime(CLOCK_MONOTONIC, &to);
		double took = to.tv_sec - from.tv_sec + (to.tv_nsec - from.tv_nsec) / 1e9;
		fprintf(out, "<testcase classname=\"%s\" name=\"%s\" time=\"%.4f\">", cases[i].suite, cases[i].name, took);
		if (wrong) {
			failed++;
			fprintf(out, "<failure message=\"%s\"/>", wrong);
			printf("FAILED %s: %s: %s\n", cases[i].suite, cases[i].name, wrong);
		}
		fprintf(out, "</testcase>\n");
	}
	fprintf(out, "</testsuite>\n");
	fclose(out);
	printf("%d of %zu tests failed\n", failed, sizeof cases / sizeof *cases);
	return failed > 0;
}
