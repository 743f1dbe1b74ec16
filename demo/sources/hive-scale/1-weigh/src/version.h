#ifndef VERSION_H
#define VERSION_H

/* Written when it is built. */
#define SCALE_VERSION "unknown"
#define SCALE_COMMIT  "unknown"
#define SCALE_MODE    "unknown"

#endif
