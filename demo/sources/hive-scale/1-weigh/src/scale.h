#ifndef SCALE_H
#define SCALE_H

#include <stdint.h>

/* Readings are grams; a hive weighs less than 200 kg. */
#define SCALE_MOST 200000

struct scale {
	int32_t tare;
	int32_t last;
};

/* scale_weigh gives the weight in grams for a raw reading, -1 for one that cannot be. */
int32_t scale_weigh(struct scale *s, int32_t raw);

/* scale_swarmed tells whether a colony has left: a fall of a kilogram and a half between readings. */
int scale_swarmed(const struct scale *s, int32_t now);

#endif
