#!/usr/bin/env python3
"""py/vm.c with the loop over the bytecode as a function of its own, without setjmp. Usage: split_vm.py py/vm.c > split.c

With a setjmp in the same function the compiler to WebAssembly writes every local to memory before each call and reads it again after it,
which is a third of all instructions. The text of the loop stays the vendor's; what it raises itself goes the way of what it calls.
"""

import sys

text = open(sys.argv[1], encoding="utf-8").read()


def cut(begin: str, end: str) -> str:
    """The text between two marks, which must stand there once each; it is taken out."""
    global text
    assert text.count(begin) == 1, begin
    at = text.index(begin) + len(begin)
    to = text.index(end, at)
    taken, text = text[at:to], text[:at] + text[to:]
    return taken


HEAD = "mp_vm_return_kind_t MICROPY_WRAP_MP_EXECUTE_BYTECODE(mp_execute_bytecode)(mp_code_state_t *code_state, volatile mp_obj_t inject_exc) {\n"
BODY = "        if (nlr_push(&nlr) == 0) {\n"
macros = cut(HEAD, "#if MICROPY_STACKLESS\nrun_code_state: ;")
loop = cut(BODY, "        } else {\nexception_handler:\n")
raises = "    #define RAISE(o) do { nlr_pop(); nlr.ret_val = MP_OBJ_TO_PTR(o); goto exception_handler; } while (0)\n"
assert macros.count(raises) == 1 and "goto outer_dispatch_loop" not in loop
own = f"""#if MICROPY_STACKLESS || MICROPY_PY_SYS_SETTRACE || (MICROPY_PY_THREAD_GIL && MICROPY_PY_THREAD_GIL_VM_DIVISOR)
#error the loop stands alone only without these
#endif
static __attribute__((noinline)) mp_vm_return_kind_t execute_loop(mp_code_state_t *code_state, volatile mp_obj_t *inject_at,
    mp_obj_t *fastn, mp_exc_stack_t *exc_stack, mp_exc_stack_t *volatile *exc_sp_at) {{
    #define inject_exc (*inject_at)
    #define exc_sp (*exc_sp_at)
{macros.replace(raises, "    #define RAISE(o) nlr_raise(o)" + chr(10))}
{loop}
    #undef inject_exc
    #undef exc_sp
}}

"""
at = text.index(HEAD)
text = text[:at] + own + text[at:]
text = text.replace(BODY, BODY + "            return execute_loop(code_state, &inject_exc, fastn, exc_stack, &exc_sp);\n")
print(text, end="")
