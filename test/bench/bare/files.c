/*
 * The least that can be done with small files: makes, writes and closes them, or opens,
 * reads and closes them, by the operations of one io_uring with registered buffers and
 * a table of open files, so many at a time. The engine is held against it.
 *
 *   files FOLDER COUNT DEPTH put|fetch      prints files a second
 *
 * FOLDER has a folder "small", and that a folder for every thousand files. Folders and
 * files are named by their numbers, with as many digits as the last one has.
 */
#include "ring.h"

static char (*names)[64];
static char naming[32];
static unsigned *step; /* of each slot: 0 opens, 1 moves, 2 closes */
static int folder, put;

static unsigned digits(uint64_t number)
{
	return snprintf(NULL, 0, "%llu", (unsigned long long)number);
}

static void prepare(unsigned slot, uint64_t number)
{
	struct io_uring_sqe *e = next(slot);
	switch (step[slot]) {
	case 0:
		snprintf(names[slot], sizeof names[slot], naming, (unsigned long long)number / 1000, (unsigned long long)number);
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
	snprintf(naming, sizeof naming, "small/%%0%ullu/%%0%ullu", digits((count - 1) / 1000), digits(count - 1));
	folder = open(argv[1], O_RDONLY | O_DIRECTORY | O_CLOEXEC);
	if (folder < 0)
		die(argv[1]);
	names = calloc(depth, sizeof *names);
	step = calloc(depth, sizeof *step);
	int *table = malloc(depth * sizeof *table);
	if (!names || !step || !table)
		die("get memory");
	for (unsigned i = 0; i < depth; i++)
		table[i] = -1;
	open_ring(depth, table, depth);

	double start = now();
	unsigned submit = 0, flying = 0;
	for (unsigned i = 0; i < depth && begun < count; i++, submit++, flying++)
		prepare(i, begun++);
	while (flying > 0) {
		enter(submit);
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
