// MicroPython for WASI: micropython [-X heapsize=N] [-X threshold=N] [-X stack=N] (-m MODULE | -c CODE | FILE).
// Sizes are in bytes; `stack` is what the interpreter may take of the C stack, `threshold` collects after so many bytes.
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>
#include "py/compile.h"
#include "py/runtime.h"
#include "py/builtin.h"
#include "py/gc.h"
#include "py/cstack.h"
#include "py/mphal.h"
#include "py/stackctrl.h"
#include "extmod/vfs.h"
#include "extmod/vfs_posix.h"

#ifndef STACK_LIMIT
#define STACK_LIMIT (64 * 1024)
#endif

void mp_hal_stdout_tx_strn_cooked(const char *str, size_t len) { mp_hal_stdout_tx_strn(str, len); }
mp_uint_t mp_hal_stdout_tx_strn(const char *str, size_t len) {
    size_t left = len;
    while (left) {
        ssize_t n = write(1, str, left);
        if (n <= 0) break;
        str += n; left -= n;
    }
    return len;
}
void mp_hal_stdout_tx_str(const char *str) { mp_hal_stdout_tx_strn(str, strlen(str)); }
int mp_hal_stdin_rx_chr(void) { unsigned char c; return read(0, &c, 1) == 1 ? c : 4; }
uintptr_t mp_hal_stdio_poll(uintptr_t flags) { return flags; }
uint64_t mp_hal_time_ns(void) {
    struct timespec t;
    clock_gettime(CLOCK_REALTIME, &t);
    return t.tv_sec * 1000000000ULL + t.tv_nsec;
}
mp_uint_t mp_hal_ticks_us(void) { return mp_hal_time_ns() / 1000; }
mp_uint_t mp_hal_ticks_ms(void) { return mp_hal_time_ns() / 1000000; }
mp_uint_t mp_hal_ticks_cpu(void) { return mp_hal_ticks_us(); }
void mp_hal_delay_us(mp_uint_t us) { usleep(us); mp_handle_pending(true); }
void mp_hal_delay_ms(mp_uint_t ms) { usleep(ms * 1000); mp_handle_pending(true); }

#if MICROPY_VFS_FAT
#include "lib/oofatfs/ff.h"
MP_WEAK DWORD get_fattime(void) { return 0; }
#endif

void host_tell_collecting(void);
void host_tell_collected(void);

// Pointers in WebAssembly locals are written to the C stack by Binaryen's spill-pointers pass.
__attribute__((noinline)) void gc_collect(void) {
    void *volatile here = NULL;
    host_tell_collecting();
    gc_collect_start();
    gc_collect_root((void **)&here, ((uintptr_t)MP_STATE_THREAD(stack_top) - (uintptr_t)&here) / sizeof(uintptr_t));
    gc_collect_end();
    host_tell_collected();
}

__attribute__((noreturn)) void nlr_jump_fail(void *val) { (void)val; abort(); }

// The tag that LLVM's longjmp throws: the libc of zig has the functions, but not the tag.
__asm__(".tagtype __c_longjmp i32\n.globl __c_longjmp\n__c_longjmp:\n");

static int uncaught(mp_obj_base_t *exc) {
    if (mp_obj_is_subclass_fast(MP_OBJ_FROM_PTR(exc->type), MP_OBJ_FROM_PTR(&mp_type_SystemExit))) {
        mp_obj_t value = mp_obj_exception_get_value(MP_OBJ_FROM_PTR(exc));
        mp_int_t code = 0;
        if (value != mp_const_none && !mp_obj_get_int_maybe(value, &code)) code = 1;
        return code & 0xff;
    }
    mp_obj_print_exception(&mp_plat_print, MP_OBJ_FROM_PTR(exc));
    return 1;
}

static __attribute__((noinline)) int run(int argc, char **argv) {
    size_t heap_size = 256 * 1024;
    int threshold = 0;
    for (int a = 1; a + 1 < argc && argv[a][0] == '-'; a += 2) {
        if (strcmp(argv[a], "-X") == 0 && strncmp(argv[a + 1], "heapsize=", 9) == 0) heap_size = strtol(argv[a + 1] + 9, NULL, 0);
        if (strcmp(argv[a], "-X") == 0 && strncmp(argv[a + 1], "threshold=", 10) == 0) threshold = strtol(argv[a + 1] + 10, NULL, 0);
    }
    char *heap = malloc(heap_size);
    gc_init(heap, heap + heap_size);
    mp_init();
    #if MICROPY_GC_ALLOC_THRESHOLD
    if (threshold) MP_STATE_MEM(gc_alloc_threshold) = threshold / MICROPY_BYTES_PER_GC_BLOCK;
    #endif
    nlr_buf_t nlr;
    int code = 0;
    if (nlr_push(&nlr) == 0) {
        mp_obj_t args[2] = {
            MP_OBJ_TYPE_GET_SLOT(&mp_type_vfs_posix, make_new)(&mp_type_vfs_posix, 0, 0, NULL),
            MP_OBJ_NEW_QSTR(MP_QSTR__slash_),
        };
        mp_vfs_mount(2, args, (mp_map_t *)&mp_const_empty_map);
        MP_STATE_VM(vfs_cur) = MP_STATE_VM(vfs_mount_table);
        const char *path = getenv("MICROPYPATH");
        if (path) mp_obj_list_append(mp_sys_path, mp_obj_new_str_via_qstr(path, strlen(path)));
        int a = 1;
        while (a + 1 < argc && strcmp(argv[a], "-X") == 0) a += 2;
        if (a + 1 < argc && strcmp(argv[a], "-m") == 0) {
            mp_obj_t import_args[1] = { mp_obj_new_str_from_cstr(argv[a + 1]) };
            mp_builtin___import__(1, import_args);
        } else if (a < argc) {
            mp_lexer_t *lex;
            if (a + 1 < argc && strcmp(argv[a], "-c") == 0) {
                lex = mp_lexer_new_from_str_len(MP_QSTR__lt_stdin_gt_, argv[a + 1], strlen(argv[a + 1]), 0);
            } else {
                const char *slash = strrchr(argv[a], '/');
                if (slash) mp_obj_list_store(mp_sys_path, MP_OBJ_NEW_SMALL_INT(0), mp_obj_new_str_via_qstr(argv[a], slash - argv[a]));
                lex = mp_lexer_new_from_file(qstr_from_str(argv[a]));
            }
            qstr name = lex->source_name;
            #if MICROPY_PY___FILE__
            mp_store_global(MP_QSTR___file__, MP_OBJ_NEW_QSTR(name));
            #endif
            mp_parse_tree_t tree = mp_parse(lex, MP_PARSE_FILE_INPUT);
            mp_call_function_0(mp_compile(&tree, name, false));
        }
        mp_handle_pending(true);
        nlr_pop();
    } else {
        code = uncaught(nlr.ret_val);
    }
    return code;
}

int main(int argc, char **argv) {
    size_t stack = STACK_LIMIT;
    for (int a = 1; a + 1 < argc && argv[a][0] == '-'; a += 2) {
        if (strncmp(argv[a + 1], "stack=", 6) == 0) {
            stack = strtol(argv[a + 1] + 6, NULL, 0);
        }
    }
    mp_cstack_init_with_sp_here(stack);
    return run(argc, argv);
}
