// The module `host`: what the simulated board gives to the modules that stand in for the port's own.
//   call(name, data) -> str      asks the host; data is text or bytes
//   number(what, ...) -> int     the same with whole numbers, at most four of them, for what is called often
//   reserve(size)                leaves one free piece of `size` bytes, ends the heap behind it and takes what is free before it;
//                                from then on the host hears of every collection, when it begins and when it is over
//   share(words), ms()           the words that the host writes, and the first of them: time is asked for more often than all else
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

static const uint32_t *words;

static mp_obj_t share(mp_obj_t words_in) {
    mp_buffer_info_t data;
    mp_get_buffer_raise(words_in, &data, MP_BUFFER_READ);
    words = data.buf;
    return mp_const_none;
}
static MP_DEFINE_CONST_FUN_OBJ_1(share_obj, share);

static mp_obj_t ms(void) {
    return MP_OBJ_NEW_SMALL_INT(words[0]);
}
static MP_DEFINE_CONST_FUN_OBJ_0(ms_obj, ms);

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
    { MP_ROM_QSTR(MP_QSTR_run), MP_ROM_PTR(&run_obj) },
    { MP_ROM_QSTR(MP_QSTR_run_text), MP_ROM_PTR(&run_text_obj) },
};
static MP_DEFINE_CONST_DICT(globals, globals_table);
const mp_obj_module_t host_module = { .base = { &mp_type_module }, .globals = (mp_obj_dict_t *)&globals };
MP_REGISTER_MODULE(MP_QSTR_host, host_module);
