#include "scale.h"

/* A year of readings, one an hour. */
int32_t scale_history[365 * 24] = { 1 };

int32_t scale_weigh(struct scale *s, int32_t raw)
{
	static unsigned at;
	int32_t grams = raw - s->tare;

	if (grams < 0 || grams > SCALE_MOST)
		return -1;
	s->last = grams;
	scale_history[at++ % (365 * 24)] = grams;
	return grams;
}

int scale_swarmed(const struct scale *s, int32_t now)
{
	return s->last - now >= 1500;
}
