#include <stdio.h>
#include <stdlib.h>

#include "scale.h"
#include "version.h"

int main(int argc, char **argv)
{
	struct scale s = { .tare = 12000 };

	printf("hive-scale %s (%s, %s)\n", SCALE_VERSION, SCALE_COMMIT, SCALE_MODE);
	for (int i = 1; i < argc; i++)
		printf("%d g\n", scale_weigh(&s, atoi(argv[i])));
	return 0;
}
