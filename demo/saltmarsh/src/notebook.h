// A notebook of sightings.
struct sighting {
	int species;
	int minute; // since midnight
};

// sort_sightings puts sightings in the order of their minutes.
void sort_sightings(struct sighting *list, int n);

// count_species counts the different species; there are at most 64.
int count_species(const struct sighting *list, int n);

// tags_of writes up to most tags of a note into out, each a word after a '#', and returns how many there are.
int tags_of(const char *note, char out[][32], int most);

// now_ms is the clock, in milliseconds.
long now_ms(void);
