/* The iOS side: an application that logs the next waters of the first harbour when it has started. */
#include "../core/stations.h"

typedef void *id;
typedef void *Class;
typedef void *SEL;

Class objc_getClass(const char *name);
Class objc_allocateClassPair(Class superclass, const char *name, unsigned long extra);
void objc_registerClassPair(Class c);
signed char class_addMethod(Class c, SEL name, void (*imp)(void), const char *types);
SEL sel_registerName(const char *name);
id objc_msgSend(void);
int UIApplicationMain(int argc, char **argv, id principal, id delegate);
int printf(const char *format, ...);
long time(long *);

static signed char launched(id self, SEL cmd, id app, id options) {
    (void)self, (void)cmd, (void)app, (void)options;
    tide_extreme next[4];
    double hour = (double)(time(0) % 31557600L) / 3600.0;
    int n = tide_extremes(&tide_stations[0], hour, hour + 26, next, 4);
    for (int i = 0; i < n; i++) {
        printf("%s: %s water %.1f m in %.1f h\n", tide_stations[0].name, next[i].high ? "high" : "low", next[i].height, next[i].hour - hour);
    }
    return 1;
}

static id text(const char *s) {
    return ((id(*)(Class, SEL, const char *))(void (*)(void))objc_msgSend)(objc_getClass("NSString"), sel_registerName("stringWithUTF8String:"), s);
}

int main(int argc, char **argv) {
    Class delegate = objc_allocateClassPair(objc_getClass("UIResponder"), "TidewickDelegate", 0);
    class_addMethod(delegate, sel_registerName("application:didFinishLaunchingWithOptions:"), (void (*)(void))launched, "c@:@@");
    objc_registerClassPair(delegate);
    return UIApplicationMain(argc, argv, 0, text("TidewickDelegate"));
}
