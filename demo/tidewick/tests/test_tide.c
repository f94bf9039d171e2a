/* Unit tests of the tide computation; writes JUnit XML to the file it is given. */
#include <math.h>
#include <stdio.h>
#include <string.h>
#include <time.h>

#include "../core/stations.h"

static FILE *report;
static int failed, total;
static char message[512];

static void check(int ok, const char *file, int line, const char *what, double got, double wanted) {
    if (!ok && !message[0]) {
        snprintf(message, sizeof message, "%s:%d: error: %s: got %.6f, wanted %.6f", file, line, what, got, wanted);
    }
}

#define NEAR(got, wanted, within) check(fabs((got) - (wanted)) <= (within), __FILE__, __LINE__, #got, (got), (wanted))

static const tide_station semidiurnal = {"plain", 3.0, 1, {{30.0, 2.0, 0.0}}};
static const tide_station spring = {"spring", 4.0, 2, {{28.9841042, 2.0, 40.0}, {30.0, 0.7, 85.0}}};

static void height_of_one_constituent(void) {
    NEAR(tide_height(&semidiurnal, 0), 5.0, 1e-9);
    NEAR(tide_height(&semidiurnal, 6), 1.0, 1e-9);
    NEAR(tide_height(&semidiurnal, 3), 3.0, 1e-9);
}

static void extremes_alternate(void) {
    tide_extreme e[16];
    int n = tide_extremes(&spring, 0, 48, e, 16);
    NEAR((double)n, 8.0, 0.5);
    for (int i = 1; i < n; i++) {
        NEAR((double)e[i].high, (double)!e[i - 1].high, 1e-9);
        NEAR(e[i].hour - e[i - 1].hour, 6.2, 0.5);
    }
}

static void high_water_in_time_and_height(void) {
    tide_extreme e[4];
    int n = tide_extremes(&semidiurnal, 1, 13, e, 4);
    NEAR((double)n, 2.0, 0.5);
    NEAR(e[0].hour, 6.0, 0.001);
    NEAR(e[0].height, 1.0, 1e-5);
    NEAR(e[1].hour, 12.0, 0.001);
    NEAR(e[1].height, 5.0, 1e-5);
}

static void springs_exceed_neaps(void) {
    double least = 100, most = 0;
    for (double day = 0; day < 15; day++) {
        double range = tide_mean_range(&spring, day * 24, day * 24 + 25);
        least = fmin(least, range);
        most = fmax(most, range);
    }
    NEAR(most, 5.4, 0.1);  /* the amplitudes add up */
    NEAR(least, 2.6, 0.1); /* and take from each other, a week later */
}

static void every_harbour_is_sane(void) {
    NEAR((double)(tide_station_count >= 4), 1.0, 0.1);
    for (int i = 0; i < tide_station_count; i++) {
        const tide_station *s = &tide_stations[i];
        double sum = 0;
        for (int k = 0; k < s->count; k++) {
            sum += s->constituents[k].amplitude;
        }
        for (double hour = 0; hour < 720; hour += 0.5) {
            double h = tide_height(s, hour);
            NEAR((double)(h <= s->mean + sum + 1e-9 && h >= s->mean - sum - 1e-9), 1.0, 0.1);
        }
    }
}

/* Writes a text as XML needs it within quotes. */
static void escape(const char *text) {
    for (; *text; text++) {
        switch (*text) {
        case '&': fputs("&amp;", report); break;
        case '<': fputs("&lt;", report); break;
        case '"': fputs("&quot;", report); break;
        default: fputc(*text, report);
        }
    }
}

static void run(const char *name, void (*test)(void)) {
    struct timespec a, b;
    message[0] = 0;
    clock_gettime(CLOCK_MONOTONIC, &a);
    test();
    clock_gettime(CLOCK_MONOTONIC, &b);
    double seconds = (double)(b.tv_sec - a.tv_sec) + (double)(b.tv_nsec - a.tv_nsec) / 1e9;
    total++;
    fprintf(report, "  <testcase classname=\"tide\" name=\"%s\" time=\"%.6f\"", name, seconds);
    if (message[0]) {
        failed++;
        printf("\x1b[31mFAIL\x1b[0m %s\n     %s\n", name, message);
        fprintf(report, "><failure message=\"");
        escape(message);
        fprintf(report, "\"/></testcase>\n");
    } else {
        printf("\x1b[32mok\x1b[0m   %s\n", name);
        fprintf(report, "/>\n");
    }
}

int main(int argc, char **argv) {
    if (argc != 2 || !(report = fopen(argv[1], "w"))) {
        fprintf(stderr, "usage: test_tide REPORT.xml\n");
        return 2;
    }
    fprintf(report, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<testsuites><testsuite name=\"tide\">\n");
    run("height of one constituent", height_of_one_constituent);
    run("extremes alternate", extremes_alternate);
    run("high water in time and height", high_water_in_time_and_height);
    run("springs exceed neaps", springs_exceed_neaps);
    run("every harbour is sane", every_harbour_is_sane);
    fprintf(report, "</testsuite></testsuites>\n");
    fclose(report);
    printf("%d of %d passed\n", total - failed, total);
    return failed ? 1 : 0;
}
