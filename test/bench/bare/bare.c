/*
 * The least that can be done: reads random 4 KiB blocks of a device through one
 * io_uring with registered buffers and file, and counts nothing but how many came
 * back. The engine is held against it, because a loop on the engine's own binding
 * would share its faults.
 *
 *   bare DEVICE BYTES DEPTH SECONDS      prints reads a second
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

static void die(const char *what)
{
	fprintf(stderr, "bare: %s: %s\n", what, strerror(errno));
	exit(1);
}

static double now(void)
{
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

static uint64_t state = 1;

/* xorshift64* (Vigna 2016) */
static uint64_t draw(void)
{
	state ^= state >> 12;
	state ^= state << 25;
	state ^= state >> 27;
	return state * 0x2545f4914f6cdd1dULL;
}

static struct io_uring_sqe *entries;
static char *buffers;
static uint64_t places;
static unsigned *sq_tail, sq_mask, *sq_array, tail;

static void prepare(unsigned slot)
{
	unsigned at = tail & sq_mask;
	struct io_uring_sqe *e = &entries[at];
	memset(e, 0, sizeof *e);
	e->opcode = IORING_OP_READ_FIXED;
	e->flags = IOSQE_FIXED_FILE;
	e->addr = (uintptr_t)(buffers + (size_t)slot * BLOCK);
	e->len = BLOCK;
	e->off = (draw() % places) * BLOCK;
	e->buf_index = slot;
	e->user_data = slot;
	sq_array[at] = at;
	tail++;
}

int main(int argc, char **argv)
{
	if (argc != 5) {
		fprintf(stderr, "bare DEVICE BYTES DEPTH SECONDS\n");
		return 2;
	}
	unsigned depth = atoi(argv[3]);
	double seconds = atof(argv[4]);
	places = strtoull(argv[2], NULL, 10) / BLOCK;
	int fd = open(argv[1], O_RDONLY | O_DIRECT | O_CLOEXEC);
	if (fd < 0)
		die(argv[1]);
	struct io_uring_params p = {.flags = IORING_SETUP_SINGLE_ISSUER | IORING_SETUP_DEFER_TASKRUN};
	int ring = syscall(SYS_io_uring_setup, depth, &p);
	if (ring < 0)
		die("set up a ring");
	size_t sq_size = p.sq_off.array + p.sq_entries * sizeof(unsigned);
	size_t cq_size = p.cq_off.cqes + p.cq_entries * sizeof(struct io_uring_cqe);
	char *shared = mmap(NULL, sq_size > cq_size ? sq_size : cq_size, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_POPULATE, ring, IORING_OFF_SQ_RING);
	entries = mmap(NULL, p.sq_entries * sizeof *entries, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_POPULATE, ring, IORING_OFF_SQES);
	buffers = mmap(NULL, (size_t)depth * BLOCK, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
	if (shared == MAP_FAILED || entries == MAP_FAILED || buffers == MAP_FAILED)
		die("map memory");
	sq_tail = (unsigned *)(shared + p.sq_off.tail);
	sq_mask = *(unsigned *)(shared + p.sq_off.ring_mask);
	sq_array = (unsigned *)(shared + p.sq_off.array);
	unsigned *cq_head = (unsigned *)(shared + p.cq_off.head), *cq_tail = (unsigned *)(shared + p.cq_off.tail);
	unsigned cq_mask = *(unsigned *)(shared + p.cq_off.ring_mask);
	struct io_uring_cqe *cqes = (struct io_uring_cqe *)(shared + p.cq_off.cqes);
	struct iovec *vectors = calloc(depth, sizeof *vectors);
	for (unsigned i = 0; i < depth; i++)
		vectors[i] = (struct iovec){buffers + (size_t)i * BLOCK, BLOCK};
	if (syscall(SYS_io_uring_register, ring, IORING_REGISTER_BUFFERS, vectors, depth) < 0)
		die("register buffers");
	if (syscall(SYS_io_uring_register, ring, IORING_REGISTER_FILES, &fd, 1) < 0)
		die("register the file");

	for (unsigned i = 0; i < depth; i++)
		prepare(i);
	unsigned submit = depth, flying = depth;
	uint64_t done = 0;
	double start = now(), end = start + seconds, at = start;
	for (unsigned rounds = 0; flying > 0; rounds++) {
		__atomic_store_n(sq_tail, tail, __ATOMIC_RELEASE);
		if (syscall(SYS_io_uring_enter, ring, submit, 1, IORING_ENTER_GETEVENTS, NULL, 0) < 0 && errno != EINTR)
			die("enter");
		submit = 0;
		if (rounds % 64 == 0)
			at = now();
		unsigned head = *cq_head, ready = __atomic_load_n(cq_tail, __ATOMIC_ACQUIRE);
		for (; head != ready; head++) {
			struct io_uring_cqe *c = &cqes[head & cq_mask];
			if (c->res != BLOCK) {
				errno = c->res < 0 ? -c->res : EIO;
				die("read");
			}
			if (at < end) {
				done++;
				prepare(c->user_data);
				submit++;
			} else {
				flying--;
			}
		}
		__atomic_store_n(cq_head, head, __ATOMIC_RELEASE);
	}
	printf("%.1f\n", done / (at - start));
	return 0;
}
