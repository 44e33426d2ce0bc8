/*
 * An io_uring with registered buffers, at its least: what the bare loops share.
 *
 * Structures and constants: linux/io_uring.h; behaviour: io_uring_setup(2),
 * io_uring_enter(2), io_uring_register(2).
 */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <linux/io_uring.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/syscall.h>
#include <sys/uio.h>
#include <time.h>
#include <unistd.h>

#define BLOCK 4096

static int ring;
static struct io_uring_sqe *entries;
static struct io_uring_cqe *cqes;
static char *buffers; /* one of BLOCK bytes for each slot */
static unsigned *sq_tail, sq_mask, *sq_array, tail;
static unsigned *cq_head, *cq_tail, cq_mask;

static void die(const char *what)
{
	fprintf(stderr, "%s: %s\n", what, strerror(errno));
	exit(1);
}

static double now(void)
{
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

/* open_ring makes the ring, with a buffer for each of its slots and a table of files. */
static void open_ring(unsigned depth, int *files, unsigned count)
{
	struct io_uring_params p = {.flags = IORING_SETUP_SINGLE_ISSUER | IORING_SETUP_DEFER_TASKRUN};
	ring = syscall(SYS_io_uring_setup, depth, &p);
	if (ring < 0)
		die("set up a ring");
	size_t sq_size = p.sq_off.array + p.sq_entries * sizeof(unsigned);
	size_t cq_size = p.cq_off.cqes + p.cq_entries * sizeof(struct io_uring_cqe);
	char *shared = mmap(NULL, sq_size > cq_size ? sq_size : cq_size, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_POPULATE, ring, IORING_OFF_SQ_RING);
	entries = mmap(NULL, p.sq_entries * sizeof *entries, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_POPULATE, ring, IORING_OFF_SQES);
	buffers = mmap(NULL, (size_t)depth * BLOCK, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
	struct iovec *vectors = calloc(depth, sizeof *vectors);
	if (shared == MAP_FAILED || entries == MAP_FAILED || buffers == MAP_FAILED || !vectors)
		die("map memory");
	sq_tail = (unsigned *)(shared + p.sq_off.tail);
	sq_mask = *(unsigned *)(shared + p.sq_off.ring_mask);
	sq_array = (unsigned *)(shared + p.sq_off.array);
	cq_head = (unsigned *)(shared + p.cq_off.head);
	cq_tail = (unsigned *)(shared + p.cq_off.tail);
	cq_mask = *(unsigned *)(shared + p.cq_off.ring_mask);
	cqes = (struct io_uring_cqe *)(shared + p.cq_off.cqes);
	for (unsigned i = 0; i < depth; i++)
		vectors[i] = (struct iovec){buffers + (size_t)i * BLOCK, BLOCK};
	if (syscall(SYS_io_uring_register, ring, IORING_REGISTER_BUFFERS, vectors, depth) < 0)
		die("register buffers");
	if (syscall(SYS_io_uring_register, ring, IORING_REGISTER_FILES, files, count) < 0)
		die("register files");
}

/* next is the next submission, of a slot. */
static struct io_uring_sqe *next(unsigned slot)
{
	unsigned at = tail & sq_mask;
	struct io_uring_sqe *e = &entries[at];
	memset(e, 0, sizeof *e);
	e->user_data = slot;
	sq_array[at] = at;
	tail++;
	return e;
}

/* enter hands over what was prepared and waits for a completion. */
static void enter(unsigned submit)
{
	__atomic_store_n(sq_tail, tail, __ATOMIC_RELEASE);
	if (syscall(SYS_io_uring_enter, ring, submit, 1, IORING_ENTER_GETEVENTS, NULL, 0) < 0 && errno != EINTR)
		die("enter");
}
