/* The Android side: a native activity that logs the next waters of the first harbour. The few declarations of the
 * platform it needs stand here, since the headers of a development kit are not at hand. */
#include "../core/stations.h"

struct ANativeActivityCallbacks;
typedef struct ANativeActivity {
    struct ANativeActivityCallbacks *callbacks;
    void *vm, *env, *clazz;
} ANativeActivity;

int __android_log_print(int priority, const char *tag, const char *format, ...);
long time(long *);

__attribute__((visibility("default"))) void ANativeActivity_onCreate(ANativeActivity *activity, void *state, unsigned long size) {
    (void)activity;
    (void)state;
    (void)size;
    tide_extreme next[4];
    double hour = (double)(time(0) % 31557600L) / 3600.0;
    int n = tide_extremes(&tide_stations[0], hour, hour + 26, next, 4);
    for (int i = 0; i < n; i++) {
        __android_log_print(4, "Tidewick", "%s: %s water %.1f m in %.1f h", tide_stations[0].name,
                            next[i].high ? "high" : "low", next[i].height, next[i].hour - hour);
    }
}
