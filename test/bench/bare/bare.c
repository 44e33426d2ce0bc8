/*
 * The least that can be done: reads random 4 KiB blocks of a device through one
 * io_uring with registered buffers and file, and counts nothing but how many came
 * back. The engine is held against it, because a loop on the engine's own binding
 * would share its faults.
 *
 *   bare DEVICE BYTES DEPTH SECONDS      prints reads a second
 */
#include "ring.h"

static uint64_t state = 1;

/* xorshift64* (Vigna 2016) */
static uint64_t draw(void)
{
	state ^= state >> 12;
	state ^= state << 25;
	state ^= state >> 27;
	return state * 0x2545f4914f6cdd1dULL;
}

static uint64_t places;

static void prepare(unsigned slot)
{
	struct io_uring_sqe *e = next(slot);
	e->opcode = IORING_OP_READ_FIXED;
	e->flags = IOSQE_FIXED_FILE;
	e->addr = (uintptr_t)(buffers + (size_t)slot * BLOCK);
	e->len = BLOCK;
	e->off = (draw() % places) * BLOCK;
	e->buf_index = slot;
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
	open_ring(depth, &fd, 1);

	for (unsigned i = 0; i < depth; i++)
		prepare(i);
	unsigned submit = depth, flying = depth;
	uint64_t done = 0;
	double start = now(), end = start + seconds, at = start;
	for (unsigned rounds = 0; flying > 0; rounds++) {
		enter(submit);
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
