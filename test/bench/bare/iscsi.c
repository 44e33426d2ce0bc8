/*
 * The least that can be done over iSCSI with the asynchronous calls of a library
 * (Debian's libiscsi): reads random blocks of a LUN, or reads or writes one after the
 * other, so many at a time, and counts nothing but how many were answered. The engine is
 * held against it.
 *
 *   iscsi URL BLOCK DEPTH SECONDS random|reads|writes      prints operations a second
 */
#include <errno.h>
#include <poll.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include <iscsi/iscsi.h>
#include <iscsi/scsi-lowlevel.h>

static struct iscsi_context *session;
static int lun, failed;
static uint32_t block;          /* bytes of an operation */
static uint32_t unit;           /* bytes of a block of the LUN */
static uint64_t places, next, done;
static char how;                /* r random, s reads in order, w writes in order */
static unsigned char **buffers;
static uint64_t state = 1;

static void die(const char *what)
{
	fprintf(stderr, "%s: %s\n", what, session ? iscsi_get_error(session) : strerror(errno));
	exit(1);
}

static double now(void)
{
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

/* xorshift64* (Vigna 2016) */
static uint64_t draw(void)
{
	state ^= state >> 12;
	state ^= state << 25;
	state ^= state >> 27;
	return state * 0x2545f4914f6cdd1dULL;
}

static void issue(uintptr_t slot);

static void answered(struct iscsi_context *s, int status, void *data, void *slot)
{
	(void)s;
	if (status != SCSI_STATUS_GOOD)
		failed = 1;
	else
		done++;
	scsi_free_scsi_task(data);
	if (!failed)
		issue((uintptr_t)slot);
}

static void issue(uintptr_t slot)
{
	uint64_t place = how == 'r' ? draw() % places : next++ % places;
	uint32_t at = place * (block / unit);
	struct scsi_task *task;
	if (how == 'w') {
		task = iscsi_write10_task(session, lun, at, buffers[slot], block, unit, 0, 0, 0, 0, 0, answered, (void *)slot);
	} else {
		task = iscsi_read10_task(session, lun, at, block, unit, 0, 0, 0, 0, 0, answered, (void *)slot);
		if (task)
			scsi_task_add_data_in_buffer(task, block, buffers[slot]);
	}
	if (!task)
		die("issue");
}

int main(int argc, char **argv)
{
	if (argc != 6) {
		fprintf(stderr, "iscsi URL BLOCK DEPTH SECONDS random|reads|writes\n");
		return 2;
	}
	block = strtoul(argv[2], NULL, 10);
	uintptr_t depth = strtoul(argv[3], NULL, 10);
	double seconds = atof(argv[4]);
	how = !strcmp(argv[5], "random") ? 'r' : !strcmp(argv[5], "writes") ? 'w' : 's';
	session = iscsi_create_context("iqn.2026-01.example:bare");
	struct iscsi_url *url = session ? iscsi_parse_full_url(session, argv[1]) : NULL;
	if (!url)
		die("read the address");
	iscsi_set_targetname(session, url->target);
	iscsi_set_session_type(session, ISCSI_SESSION_NORMAL);
	iscsi_set_header_digest(session, ISCSI_HEADER_DIGEST_NONE);
	lun = url->lun;
	if (iscsi_full_connect_sync(session, url->portal, lun))
		die("log in");
	struct scsi_task *capacity = iscsi_readcapacity10_sync(session, lun, 0, 0);
	struct scsi_readcapacity10 *size = capacity ? scsi_datain_unmarshall(capacity) : NULL;
	if (!size)
		die("ask for the size");
	unit = size->block_size;
	places = ((uint64_t)size->lba + 1) * unit / block;
	buffers = calloc(depth, sizeof *buffers);
	for (uintptr_t i = 0; i < depth; i++)
		buffers[i] = calloc(1, block);

	double start = now();
	for (uintptr_t i = 0; i < depth; i++)
		issue(i);
	while (now() - start < seconds && !failed) {
		struct pollfd p = {.fd = iscsi_get_fd(session), .events = iscsi_which_events(session)};
		if (poll(&p, 1, 1000) < 0 && errno != EINTR)
			die("wait");
		if (iscsi_service(session, p.revents) < 0)
			die("go on");
	}
	if (failed)
		die("an operation");
	printf("%.1f\n", done / (now() - start));
	return 0;
}
