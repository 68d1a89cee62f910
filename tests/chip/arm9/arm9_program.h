// Programs for the ARM926EJ-S in tests: compiled by the real compiler, linked by hand at 0x10000.
#pragma once

#include "chip/cross_compiler.h"

namespace bramix::test::arm9 {

inline bool haveCompiler() { return isInstalled("arm-none-eabi-gcc"); }

inline constexpr std::uint32_t kResults = 0x200000;

inline const char* const kLayout = R"(
ENTRY(begin)
SECTIONS
{
    . = 0x10000;
    .text : { KEEP(*(.begin)) *(.text*) *(.rodata*) }
    .ARM.exidx : { *(.ARM.exidx*) }
    .data : { *(.data*) }
    . = ALIGN(4);
    .bss : { bss_begin = .; *(.bss*) *(COMMON) . = ALIGN(4); bss_end = .; }
    . = 0x200000;
    results (NOLOAD) : { KEEP(*(.results)) . = 1024; }
}
)";

// Stacks of all modes, the vector table copied to 0; handlers that a program does not define end in a loop.
inline const char* const kStart = R"(
    .section .begin, "ax"
    .arm
    .global begin
begin:
    adr r0, vectors
    mov r1, #0
    ldmia r0!, {r2-r9}
    stmia r1!, {r2-r9}
    ldmia r0!, {r2-r9}
    stmia r1!, {r2-r9}
    msr cpsr_c, #0xD2
    ldr sp, =0x300000
    msr cpsr_c, #0xD1
    ldr sp, =0x310000
    msr cpsr_c, #0xD7
    ldr sp, =0x320000
    msr cpsr_c, #0xDB
    ldr sp, =0x330000
    msr cpsr_c, #0xD3
    ldr sp, =0x340000
    msr cpsr_c, #0xDF
    ldr sp, =0x350000
    msr cpsr_c, #0xD3
    ldr r0, =bss_begin
    ldr r1, =bss_end
    mov r2, #0
1:  cmp r0, r1
    strlo r2, [r0], #4
    blo 1b
    ldr r0, =0x200000
    add r1, r0, #1024
2:  str r2, [r0], #4
    cmp r0, r1
    blo 2b
    ldr r0, =main
    mov lr, pc
    bx r0
    msr cpsr_c, #0xD3
stop: b stop
vectors:
    ldr pc, [pc, #24]
    ldr pc, [pc, #24]
    ldr pc, [pc, #24]
    ldr pc, [pc, #24]
    ldr pc, [pc, #24]
    nop
    ldr pc, [pc, #24]
    ldr pc, [pc, #24]
    .word begin, undefined_handler, swi_handler, prefetch_handler, data_handler, 0, irq_handler, fiq_handler
    .weak undefined_handler, swi_handler, prefetch_handler, data_handler, irq_handler, fiq_handler
undefined_handler:
swi_handler:
prefetch_handler:
data_handler:
irq_handler:
fiq_handler:
    b .
    .ltorg
)";

// The ELF's path; empty with a message in the log. The source may use `results` and REG.
inline QString compile(const QTemporaryDir& folder, const QString& source, const QStringList& options, const QString& start = kStart)
{
    const QString place = folderWith(folder, {{"program.c", "#include <stdint.h>\n__attribute__((section(\".results\"))) volatile uint32_t results[256];\n#define REG(a) (*(volatile uint32_t *)(a))\n" + source}, {"start.S", start}, {"layout.ld", kLayout}});
    const QStringList arguments = QStringList{"-mcpu=arm926ej-s", "-g", "-std=gnu11", "-ffreestanding", "-fwrapv", "-nostartfiles", "-Tlayout.ld", "-Wl,--no-warn-rwx-segments", "-o", "program.elf", "program.c", "start.S"} + options + QStringList{"-lgcc"};
    return runTool(place, "arm-none-eabi-gcc", arguments) ? place + "/program.elf" : QString();
}

}  // namespace bramix::test::arm9
