// The module `host`: what the simulated board gives to the modules that stand in for the port's own.
//   call(name, data) -> str      asks the host; data is text or bytes
//   number(what, ...) -> int     the same with whole numbers, at most four of them, for what is called often
//   names(keep)                  forgets the names that came after the first so many; names(0) tells how many there are
//   reserve(size)                leaves one free piece of `size` bytes, ends the heap behind it and takes what is free before it;
//                                from then on the host hears of every collection, when it begins and when it is over
//   share(words), ms(), feed()   the words that the host writes; the first of them: time is asked for more often than all else; and the one
//                                that says that the watchdog was fed
//   poller(others, wires, own, fire, look) has poll(timeout) and ipoll(timeout) of select, where nothing unusual waits
//                                (machine_modules/select.py)
//   run(path), run_text(data)    compile and execute in the names of __main__, as pyexec.c does
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>
#include "py/compile.h"
#include "py/gc.h"
#include "py/reader.h"
#include "py/runtime.h"

#define IMPORT(n) __attribute__((import_module("zapato_host"), import_name(n)))
IMPORT("host_call") extern int host_call(const void *name, int name_len, const void *data, int data_len, void *result, int room);
IMPORT("host_number") extern int host_number(int what, int a, int b, int c, int d);
IMPORT("host_collecting") extern void host_collecting(void);
IMPORT("host_collected") extern void host_collected(const void *table, int length);

static bool reserved;

static mp_obj_t call(mp_obj_t name_in, mp_obj_t data_in) {
    char result[256];
    size_t name_len;
    const char *name = mp_obj_str_get_data(name_in, &name_len);
    mp_buffer_info_t data;
    mp_get_buffer_raise(data_in, &data, MP_BUFFER_READ);
    int size = host_call(name, name_len, data.buf, data.len, result, sizeof(result));
    if (size < 0 || size > (int)sizeof(result)) {
        mp_raise_OSError(5);
    }
    return mp_obj_new_str(result, size);
}
static MP_DEFINE_CONST_FUN_OBJ_2(call_obj, call);

#define REFUSED (-10000)  // an answer at or below: the call fails with the error REFUSED - answer

static mp_obj_t number(size_t count, const mp_obj_t *args) {
    int given[5] = {0};
    for (size_t n = 0; n < count; ++n) {
        given[n] = mp_obj_get_int(args[n]);
    }
    int answer = host_number(given[0], given[1], given[2], given[3], given[4]);
    if (answer <= REFUSED) {
        mp_raise_OSError(REFUSED - answer);
    }
    return mp_obj_new_int(answer);
}
static MP_DEFINE_CONST_FUN_OBJ_VAR_BETWEEN(number_obj, 1, 5, number);

// Called at the beginning and at the end of gc_collect().
void host_tell_collecting(void) {
    if (reserved) {
        host_collecting();
    }
}

void host_tell_collected(void) {
    if (reserved) {
        host_collected(MP_STATE_MEM(area).gc_alloc_table_start, MP_STATE_MEM(area).gc_alloc_table_byte_len);
    }
}

// Names that nobody needs make the tables of names grow before the program begins, so that its own find room in the last: names(0) tells how
// many there are, names(many) forgets those that came since. A text that is made is looked for among all names.
static mp_obj_t names(mp_obj_t keep_in) {
    size_t keep = mp_obj_get_int(keep_in);
    size_t all = QSTR_TOTAL();
    if (keep) {
        for (qstr_pool_t *pool = MP_STATE_VM(last_pool); pool->total_prev_len + pool->len > keep; pool = (qstr_pool_t *)pool->prev) {
            pool->len = pool->total_prev_len < keep ? keep - pool->total_prev_len : 0;
        }
        MP_STATE_VM(qstr_last_chunk) = NULL;  // its first name, which keeps it, is forgotten
    }
    return mp_obj_new_int(all);
}
static MP_DEFINE_CONST_FUN_OBJ_1(names_obj, names);

MP_REGISTER_ROOT_POINTER(void *host_taken);

static mp_obj_t reserve(mp_obj_t size_in) {
    gc_collect();
    void *left = m_malloc(mp_obj_get_int(size_in));
    // The collector would look through what is merely taken, again and again: so the heap ends here.
    mp_state_mem_area_t *area = &MP_STATE_MEM(area);
    area->gc_alloc_table_byte_len = area->gc_last_used_block / 4 + 1;  // four blocks a byte (py/gc.c, BLOCKS_PER_ATB)
    area->gc_pool_end = area->gc_pool_start + area->gc_alloc_table_byte_len * 4 * MICROPY_BYTES_PER_GC_BLOCK;
    MP_STATE_MEM(gc_auto_collect_enabled) = 0;
    for (size_t size = 1 << 16; size >= MICROPY_BYTES_PER_GC_BLOCK; ) {
        void **piece = gc_alloc(size, 0);
        if (piece == NULL) {
            size /= 2;
            continue;
        }
        *piece = MP_STATE_VM(host_taken);
        MP_STATE_VM(host_taken) = piece;
    }
    gc_free(left);
    MP_STATE_MEM(gc_auto_collect_enabled) = 1;
    reserved = true;
    gc_collect();
    return mp_const_none;
}
static MP_DEFINE_CONST_FUN_OBJ_1(reserve_obj, reserve);

// Modules of the simulated board stay outside of the heap, as the ports' C code and what they have in flash: their bytecode and texts are
// used where they are (py/persistentcode.c with MICROPY_VFS_ROM; the Makefile gives it this function).
#define BOARD "/board/"

void host_reader_new_file(mp_reader_t *reader, qstr filename) {
    const char *path = qstr_str(filename);
    int file = strncmp(path, BOARD, sizeof(BOARD) - 1) == 0 ? open(path, O_RDONLY) : -1;
    if (file < 0) {
        mp_reader_new_file(reader, filename);
        return;
    }
    size_t size = lseek(file, 0, SEEK_END), got = 0;
    lseek(file, 0, SEEK_SET);
    byte *rom = malloc(size);
    while (got < size) {
        ssize_t more = read(file, rom + got, size - got);
        if (more <= 0) {
            mp_raise_OSError(5);
        }
        got += more;
    }
    close(file);
    mp_reader_new_mem(reader, rom, size, MP_READER_IS_ROM);
}

static uint32_t *words;
enum { NOW, NOW_US, INTERRUPTS, SECONDS, FED, UNUSUAL };  // machine_modules/world.py

static mp_obj_t share(mp_obj_t words_in) {
    mp_buffer_info_t data;
    mp_get_buffer_raise(words_in, &data, MP_BUFFER_READ);
    words = data.buf;
    return mp_const_none;
}
static MP_DEFINE_CONST_FUN_OBJ_1(share_obj, share);

static mp_obj_t ms(void) {
    return MP_OBJ_NEW_SMALL_INT(words[NOW]);
}
static MP_DEFINE_CONST_FUN_OBJ_0(ms_obj, ms);

static mp_obj_t feed(void) {
    words[FED] = 1;
    return mp_const_none;
}
static MP_DEFINE_CONST_FUN_OBJ_0(feed_obj, feed);

// Waiting, as extmod/modselect.c does it (poll_set_poll_until_ready_or_timeout): what is registered is asked, time goes by, it is asked
// again. The program's own things are asked in their ioctl; which sockets are ready is known to the host. poll() makes a list with a tuple for
// each that is ready. ipoll() gives one tuple again and again and takes no memory (poll_iternext): a socket that is not registered any more when
// its turn comes is left out. What one registers while it goes through them may make the ports give one twice, or at the next call only, because
// their table is put in another order; here it does not.
typedef struct {
    mp_obj_base_t base;
    mp_obj_t others;  // a list of lists [thing, mask, what it was ready for when it was asked]
    mp_obj_t wires;   // a dict of sockets by their numbers
    mp_obj_t own;     // own(timeout, lazily): the whole of it in the board's module, where something unusual waits
    mp_obj_t fire;    // fire(): runs the handlers of interrupts that wait
    mp_obj_t look;    // look(): the simulator wants to see something of the program
    mp_obj_t pair;    // what ipoll() gives again and again
    size_t next;      // of the others, the one that is given next
    int socket;       // the socket that is given next, as the host says it; 0 for none
} poller_t;

enum { WAIT = 5, READY = 18 };  // machine_modules/world.py
enum { LOOK = 1, SOCKET, CTRL_C };  // what the host answers to WAIT in its last two bits, beside 0 (simulator/board.py, do_wait)
#define POLL (3)  // py/stream.h, MP_STREAM_POLL
// A socket that is ready: what for, whether there is one more to ask for, its number.
#define FLAGS(socket) ((socket) & 0xff)
#define MORE(socket) ((socket) & 0x100)
#define NUMBER(socket) ((socket) >> 9)

static int asked_host(int what, int a, int b) {
    int answer = host_number(what, a, b, 0, 0);
    if (answer <= REFUSED) {
        mp_raise_OSError(REFUSED - answer);
    }
    return answer;
}

// Whether one of the program's own things is ready.
static bool asked(poller_t *self) {
    bool found = false;
    size_t count;
    mp_obj_t *rows;
    mp_obj_get_array(self->others, &count, &rows);
    for (size_t n = 0; n < count; ++n) {
        mp_obj_t *row, call[4];
        mp_obj_get_array_fixed_n(rows[n], 3, &row);
        mp_load_method(row[0], MP_QSTR_ioctl, call);
        call[2] = MP_OBJ_NEW_SMALL_INT(POLL);
        call[3] = row[1];
        row[2] = mp_call_method_n_kw(2, 0, call);
        found |= mp_obj_is_true(row[2]);
    }
    return found;
}

// Until something is ready or the time is over; what is ready is noted.
static void wait(poller_t *self, int timeout) {
    self->next = self->socket = 0;
    if (asked(self)) {
        timeout = 0;
    }
    uint32_t begun = words[NOW];
    int left = timeout;
    for (int again = 0;; again = 1) {
        int answer = asked_host(WAIT, left, again);
        if (words[INTERRUPTS]) {
            mp_call_function_0(self->fire);
        }
        int passed = (words[NOW] - begun) & 0x3fffffff;
        switch (answer & 3) {
            case LOOK:
                mp_call_function_0(self->look);
                break;
            case SOCKET:
                self->socket = answer >> 2;
                asked(self);
                return;
            case CTRL_C:  // shared/runtime/interrupt_char.c
                mp_raise_type(&mp_type_KeyboardInterrupt);
            default:  // a handler that ran makes nobody ready by itself: the ports look, and wait on
                if (asked(self) || (timeout >= 0 && passed >= timeout)) {
                    return;
                }
        }
        left = timeout < 0 ? timeout : passed < timeout ? timeout - passed : 0;
    }
}

// The next thing that is ready, and what for; false where there is none.
static bool following(poller_t *self, mp_obj_t *pair) {
    size_t count;
    mp_obj_t *rows;
    mp_obj_get_array(self->others, &count, &rows);
    while (self->next < count) {
        mp_obj_t *row;
        mp_obj_get_array_fixed_n(rows[self->next++], 3, &row);
        if (mp_obj_is_true(row[2])) {
            pair[0] = row[0];
            pair[1] = row[2];
            return true;
        }
    }
    while (self->socket) {
        int socket = self->socket;
        self->socket = MORE(socket) ? asked_host(READY, 0, 0) : 0;
        mp_map_elem_t *place = mp_map_lookup(mp_obj_dict_get_map(self->wires), MP_OBJ_NEW_SMALL_INT(NUMBER(socket)), MP_MAP_LOOKUP);
        if (place) {
            pair[0] = place->value;
            pair[1] = MP_OBJ_NEW_SMALL_INT(FLAGS(socket));
            return true;
        }
    }
    return false;
}

static mp_obj_t polled(size_t count, const mp_obj_t *args, mp_obj_t lazily) {
    poller_t *self = MP_OBJ_TO_PTR(args[0]);
    mp_obj_t timeout = count > 1 ? args[1] : MP_OBJ_NEW_SMALL_INT(-1);
    if (words[UNUSUAL]) {
        return mp_call_function_2(self->own, timeout, lazily);
    }
    wait(self, mp_obj_get_int(timeout));
    return MP_OBJ_NULL;
}

static mp_obj_t poller_poll(size_t count, const mp_obj_t *args) {
    mp_obj_t found = polled(count, args, mp_const_false);
    if (found == MP_OBJ_NULL) {
        found = mp_obj_new_list(0, NULL);
        mp_obj_t pair[2];
        while (following(MP_OBJ_TO_PTR(args[0]), pair)) {
            mp_obj_list_append(found, mp_obj_new_tuple(2, pair));
        }
    }
    return found;
}
static MP_DEFINE_CONST_FUN_OBJ_VAR_BETWEEN(poller_poll_obj, 1, 2, poller_poll);

static mp_obj_t poller_ipoll(size_t count, const mp_obj_t *args) {
    poller_t *self = MP_OBJ_TO_PTR(args[0]);
    if (self->pair == MP_OBJ_NULL) {
        self->pair = mp_obj_new_tuple(2, NULL);
    }
    mp_obj_t found = polled(count, args, mp_const_true);
    return found == MP_OBJ_NULL ? args[0] : found;
}
static MP_DEFINE_CONST_FUN_OBJ_VAR_BETWEEN(poller_ipoll_obj, 1, 2, poller_ipoll);

static mp_obj_t poller_next(mp_obj_t self_in) {
    poller_t *self = MP_OBJ_TO_PTR(self_in);
    mp_obj_tuple_t *pair = MP_OBJ_TO_PTR(self->pair);
    return following(self, pair->items) ? self->pair : MP_OBJ_STOP_ITERATION;
}

static const mp_rom_map_elem_t poller_locals_table[] = {
    { MP_ROM_QSTR(MP_QSTR_poll), MP_ROM_PTR(&poller_poll_obj) },
    { MP_ROM_QSTR(MP_QSTR_ipoll), MP_ROM_PTR(&poller_ipoll_obj) },
};
static MP_DEFINE_CONST_DICT(poller_locals, poller_locals_table);
static MP_DEFINE_CONST_OBJ_TYPE(
    poller_type, MP_QSTR_poller, MP_TYPE_FLAG_ITER_IS_ITERNEXT, iter, poller_next, locals_dict, &poller_locals);

static mp_obj_t poller(size_t count, const mp_obj_t *args) {
    (void)count;
    poller_t *self = mp_obj_malloc(poller_t, &poller_type);
    self->others = args[0];
    self->wires = args[1];
    self->own = args[2];
    self->fire = args[3];
    self->look = args[4];
    self->pair = MP_OBJ_NULL;
    self->next = self->socket = 0;
    return MP_OBJ_FROM_PTR(self);
}
static MP_DEFINE_CONST_FUN_OBJ_VAR_BETWEEN(poller_obj, 5, 5, poller);

static mp_obj_t execute(mp_lexer_t *lex) {
    mp_obj_dict_t *names = &MP_STATE_VM(dict_main);
    return mp_parse_compile_execute(lex, MP_PARSE_FILE_INPUT, names, names);
}

static mp_obj_t run(mp_obj_t path) {
    return execute(mp_lexer_new_from_file(mp_obj_str_get_qstr(path)));
}
static MP_DEFINE_CONST_FUN_OBJ_1(run_obj, run);

static mp_obj_t run_text(mp_obj_t data_in) {
    mp_buffer_info_t data;
    mp_get_buffer_raise(data_in, &data, MP_BUFFER_READ);
    return execute(mp_lexer_new_from_str_len(MP_QSTR__lt_stdin_gt_, data.buf, data.len, 0));
}
static MP_DEFINE_CONST_FUN_OBJ_1(run_text_obj, run_text);

static const mp_rom_map_elem_t globals_table[] = {
    { MP_ROM_QSTR(MP_QSTR___name__), MP_ROM_QSTR(MP_QSTR_host) },
    { MP_ROM_QSTR(MP_QSTR_call), MP_ROM_PTR(&call_obj) },
    { MP_ROM_QSTR(MP_QSTR_number), MP_ROM_PTR(&number_obj) },
    { MP_ROM_QSTR(MP_QSTR_reserve), MP_ROM_PTR(&reserve_obj) },
    { MP_ROM_QSTR(MP_QSTR_share), MP_ROM_PTR(&share_obj) },
    { MP_ROM_QSTR(MP_QSTR_ms), MP_ROM_PTR(&ms_obj) },
    { MP_ROM_QSTR(MP_QSTR_names), MP_ROM_PTR(&names_obj) },
    { MP_ROM_QSTR(MP_QSTR_feed), MP_ROM_PTR(&feed_obj) },
    { MP_ROM_QSTR(MP_QSTR_poller), MP_ROM_PTR(&poller_obj) },
    { MP_ROM_QSTR(MP_QSTR_run), MP_ROM_PTR(&run_obj) },
    { MP_ROM_QSTR(MP_QSTR_run_text), MP_ROM_PTR(&run_text_obj) },
};
static MP_DEFINE_CONST_DICT(globals, globals_table);
const mp_obj_module_t host_module = { .base = { &mp_type_module }, .globals = (mp_obj_dict_t *)&globals };
MP_REGISTER_MODULE(MP_QSTR_host, host_module);
