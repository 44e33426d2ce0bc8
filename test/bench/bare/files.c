/*
 * The least that can be done with small files: makes, writes and closes them, or opens,
 * reads and closes them, by the operations of one io_uring with registered buffers and
 * a table of open files, so many at a time. The engine is held against it.
 *
 *   files FOLDER COUNT DEPTH put|fetch      prints files a second
 *
 * FOLDER has a folder "small", and that a folder for every thousand files, named 000,
 * 001, and so on.
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
	fprintf(stderr, "files: %s: %s\n", what, strerror(errno));
	exit(1);
}

static double now(void)
{
	struct timespec t;
	clock_gettime(CLOCK_MONOTONIC, &t);
	return t.tv_sec + t.tv_nsec / 1e9;
}

static struct io_uring_sqe *entries;
static char *buffers, (*names)[64];
static unsigned *sq_tail, sq_mask, *sq_array, tail;
static unsigned *step; /* of each slot: 0 opens, 1 moves, 2 closes */
static int folder, put;

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

static void prepare(unsigned slot, uint64_t number)
{
	struct io_uring_sqe *e = next(slot);
	switch (step[slot]) {
	case 0:
		snprintf(names[slot], sizeof names[slot], "small/%03llu/%06llu", (unsigned long long)number / 1000, (unsigned long long)number);
		e->opcode = IORING_OP_OPENAT;
		e->fd = folder;
		e->addr = (uintptr_t)names[slot];
		e->len = 0600;
		e->open_flags = put ? O_WRONLY | O_CREAT | O_TRUNC | O_NOFOLLOW : O_RDONLY | O_NOFOLLOW;
		e->file_index = slot + 1;
		break;
	case 1:
		e->opcode = put ? IORING_OP_WRITE_FIXED : IORING_OP_READ_FIXED;
		e->flags = IOSQE_FIXED_FILE;
		e->fd = slot;
		e->addr = (uintptr_t)(buffers + (size_t)slot * BLOCK);
		e->len = BLOCK;
		e->buf_index = slot;
		break;
	default:
		e->opcode = IORING_OP_CLOSE;
		e->file_index = slot + 1;
	}
}

int main(int argc, char **argv)
{
	if (argc != 5) {
		fprintf(stderr, "files FOLDER COUNT DEPTH put|fetch\n");
		return 2;
	}
	uint64_t count = strtoull(argv[2], NULL, 10), begun = 0, done = 0;
	unsigned depth = atoi(argv[3]);
	put = !strcmp(argv[4], "put");
	folder = open(argv[1], O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder < 0)
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
	names = calloc(depth, sizeof *names);
	step = calloc(depth, sizeof *step);
	struct iovec *vectors = calloc(depth, sizeof *vectors);
	int *table = malloc(depth * sizeof *table);
	if (shared == MAP_FAILED || entries == MAP_FAILED || buffers == MAP_FAILED || !names || !step || !vectors || !table)
		die("map memory");
	sq_tail = (unsigned *)(shared + p.sq_off.tail);
	sq_mask = *(unsigned *)(shared + p.sq_off.ring_mask);
	sq_array = (unsigned *)(shared + p.sq_off.array);
	unsigned *cq_head = (unsigned *)(shared + p.cq_off.head), *cq_tail = (unsigned *)(shared + p.cq_off.tail);
	unsigned cq_mask = *(unsigned *)(shared + p.cq_off.ring_mask);
	struct io_uring_cqe *cqes = (struct io_uring_cqe *)(shared + p.cq_off.cqes);
	for (unsigned i = 0; i < depth; i++) {
		vectors[i] = (struct iovec){buffers + (size_t)i * BLOCK, BLOCK};
		table[i] = -1;
	}
	if (syscall(SYS_io_uring_register, ring, IORING_REGISTER_BUFFERS, vectors, depth) < 0)
		die("register buffers");
	if (syscall(SYS_io_uring_register, ring, IORING_REGISTER_FILES, table, depth) < 0)
		die("register a table of files");

	double start = now();
	unsigned submit = 0, flying = 0;
	for (unsigned i = 0; i < depth && begun < count; i++, submit++, flying++)
		prepare(i, begun++);
	while (flying > 0) {
		__atomic_store_n(sq_tail, tail, __ATOMIC_RELEASE);
		if (syscall(SYS_io_uring_enter, ring, submit, 1, IORING_ENTER_GETEVENTS, NULL, 0) < 0 && errno != EINTR)
			die("enter");
		submit = 0;
		unsigned head = *cq_head, ready = __atomic_load_n(cq_tail, __ATOMIC_ACQUIRE);
		for (; head != ready; head++) {
			struct io_uring_cqe *c = &cqes[head & cq_mask];
			unsigned slot = c->user_data;
			if (c->res < 0 || (step[slot] == 1 && c->res != BLOCK)) {
				errno = c->res < 0 ? -c->res : EIO;
				die("a file");
			}
			if (step[slot] == 2) {
				done++;
				step[slot] = 0;
				if (begun == count) {
					flying--;
					continue;
				}
				prepare(slot, begun++);
			} else {
				step[slot]++;
				prepare(slot, 0);
			}
			submit++;
		}
		__atomic_store_n(cq_head, head, __ATOMIC_RELEASE);
	}
	printf("%.1f\n", done / (now() - start));
	return 0;
}
