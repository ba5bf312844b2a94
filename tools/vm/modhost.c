// The module `host`: what the simulated board gives to the modules that stand in for the port's own.
//   call(name, data) -> str      asks the host; data is text or bytes
//   number(what, ...) -> int     the same with whole numbers, at most four of them, for what is called often
//   names(keep)                  forgets the names that came after the first so many; names(0) tells how many there are
//   reserve(size)                leaves one free piece of `size` bytes, ends the heap behind it and takes what is free before it;
//                                from then on the host hears of every collection, when it begins and when it is over
//   share(words), ms(), feed()   the words that the host writes; the first of them: time is asked for more often than all else; and the one
//                                that says that the watchdog was fed
//   poller(others, own, ready, fire, look) what poll(timeout) of select is, where nothing unusual waits (machine_modules/select.py)
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
enum { NOW, NOW_US, INTERRUPTS, SECONDS, AT_ONCE, FED, UNUSUAL };  // machine_modules/world.py

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
// again. The program's own things are asked in their ioctl; which sockets are ready is known to the host.
typedef struct {
    mp_obj_base_t base;
    mp_obj_t others;  // a list of (thing, mask)
    mp_obj_t own;     // own(timeout): the whole of it in the board's module, where something unusual waits
    mp_obj_t ready;   // ready(): the answer with the sockets that became ready
    mp_obj_t fire;    // fire(): runs the handlers of interrupts that wait
    mp_obj_t look;    // look(): the simulator wants to see something of the program
} poller_t;

#define WAIT (5)  // machine_modules/world.py
enum { LOOK = 1, READY, CTRL_C };  // what the host answers to it, beside 0 (simulator/board.py, do_wait)
#define POLL (3)  // py/stream.h, MP_STREAM_POLL

// The list that poll() gives: of those of the program's own things that are ready; none where nothing is and `always` is false.
static mp_obj_t asked(poller_t *self, bool always) {
    mp_obj_t found = MP_OBJ_NULL;
    size_t count;
    mp_obj_t *rows;
    mp_obj_get_array(self->others, &count, &rows);
    for (size_t n = 0; n < count; ++n) {
        mp_obj_t *row, call[4];
        mp_obj_get_array_fixed_n(rows[n], 2, &row);
        mp_load_method(row[0], MP_QSTR_ioctl, call);
        call[2] = MP_OBJ_NEW_SMALL_INT(POLL);
        call[3] = row[1];
        mp_obj_t flags = mp_call_method_n_kw(2, 0, call);
        if (mp_obj_is_true(flags)) {
            if (found == MP_OBJ_NULL) {
                found = mp_obj_new_list(0, NULL);
            }
            mp_obj_t pair[2] = { row[0], flags };
            mp_obj_list_append(found, mp_obj_new_tuple(2, pair));
        }
    }
    return found == MP_OBJ_NULL && always ? mp_obj_new_list(0, NULL) : found;
}

static mp_obj_t poller_call(mp_obj_t self_in, size_t count, size_t keys, const mp_obj_t *args) {
    poller_t *self = MP_OBJ_TO_PTR(self_in);
    mp_arg_check_num(count, keys, 0, 1, false);
    if (words[UNUSUAL]) {
        return mp_call_function_1(self->own, count ? args[0] : MP_OBJ_NEW_SMALL_INT(-1));
    }
    int timeout = count ? mp_obj_get_int(args[0]) : -1;
    mp_obj_t found = asked(self, false);
    if (timeout == 0 || found != MP_OBJ_NULL) {
        if (!words[AT_ONCE]) {
            return found == MP_OBJ_NULL ? mp_obj_new_list(0, NULL) : found;  // nothing new without time going by
        }
        timeout = 0;
    }
    uint32_t begun = words[NOW];
    int left = timeout;
    for (int again = 0;; again = 1) {
        int answer = host_number(WAIT, left, again, 0, 0);
        if (answer <= REFUSED) {
            mp_raise_OSError(REFUSED - answer);
        }
        if (words[INTERRUPTS]) {
            mp_call_function_0(self->fire);
        }
        int passed = (words[NOW] - begun) & 0x3fffffff;
        switch (answer) {
            case LOOK:
                mp_call_function_0(self->look);
                break;
            case READY:
                return mp_call_function_0(self->ready);
            case CTRL_C:  // shared/runtime/interrupt_char.c
                mp_raise_type(&mp_type_KeyboardInterrupt);
            default:  // a handler that ran makes nobody ready by itself: the ports look, and wait on
                found = asked(self, timeout >= 0 && passed >= timeout);
                if (found != MP_OBJ_NULL) {
                    return found;
                }
        }
        left = timeout < 0 ? timeout : passed < timeout ? timeout - passed : 0;
    }
}

static MP_DEFINE_CONST_OBJ_TYPE(poller_type, MP_QSTR_poller, MP_TYPE_FLAG_NONE, call, poller_call);

static mp_obj_t poller(size_t count, const mp_obj_t *args) {
    (void)count;
    poller_t *self = mp_obj_malloc(poller_t, &poller_type);
    self->others = args[0];
    self->own = args[1];
    self->ready = args[2];
    self->fire = args[3];
    self->look = args[4];
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
