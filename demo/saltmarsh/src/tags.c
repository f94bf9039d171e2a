#include "notebook.h"

#include <string.h>

int tags_of(const char *note, char out[][32], int most) {
	int n = 0;
	for (const char *at = strchr(note, '#'); at && n < most; at = strchr(at + 1, '#')) {
		size_t len = strcspn(at + 1, " .,#");
		if (len == 0 || len > 31)
			continue;
		memcpy(out[n], at + 1, len);
		out[n++][len] = 0;
	}
	return n;
}
