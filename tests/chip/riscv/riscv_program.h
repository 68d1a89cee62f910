// Programs for the ESP32-C3 in tests: compiled by the real compiler, linked for direct boot.
#pragma once

#include "chip/cross_compiler.h"

namespace bramix::test::riscv {

inline bool haveCompiler() { return isInstalled("riscv64-unknown-elf-gcc"); }

inline constexpr std::uint32_t kResults = 0x3FC80000;

inline const char* const kLayout = R"(
MEMORY { flash : ORIGIN = 0x42000000, LENGTH = 4M  ram : ORIGIN = 0x3FC80000, LENGTH = 384K }
ENTRY(begin)
SECTIONS
{
    .text : { LONG(0xAEDB041D) LONG(0xAEDB041D) KEEP(*(.begin)) *(.text*) *(.rodata*) *(.srodata*) . = ALIGN(4); } > flash
    results (NOLOAD) : { KEEP(*(.results)) . = 1024; } > ram
    .data : { data_begin = .; *(.data*) *(.sdata*) . = ALIGN(4); data_end = .; } > ram AT> flash
    data_from = LOADADDR(.data);
    .bss : { bss_begin = .; *(.bss*) *(.sbss*) *(COMMON) . = ALIGN(4); bss_end = .; } > ram
    stack_top = ORIGIN(ram) + LENGTH(ram);
}
)";

// Switches the watchdogs off unless KEEP_WATCHDOGS is defined; `traps` is where mtvec points to.
inline const char* const kStart = R"(
__asm(".option arch, +zicsr");
#include <stdint.h>
extern uint32_t data_begin[], data_end[], data_from[], bss_begin[], bss_end[];
__attribute__((section(".results"))) volatile uint32_t results[256];
int main(void);
#define REG(a) (*(volatile uint32_t *)(a))
__attribute__((section(".begin"), naked, used)) void begin(void) { __asm volatile("la sp, stack_top\n j start"); }
__attribute__((used)) void start(void)
{
    for (uint32_t *to = data_begin, *from = data_from; to < data_end;)
        *to++ = *from++;
    for (uint32_t *to = bss_begin; to < bss_end;)
        *to++ = 0;
#ifndef KEEP_WATCHDOGS
    for (int i = 0; i < 256; i++)
        results[i] = 0;
    REG(0x60008000 + 0xA8) = 0x50D83AA1; REG(0x60008000 + 0x90) = 0; REG(0x60008000 + 0xB0) = 0x8F1D312A; REG(0x60008000 + 0xAC) = 1u << 30;
    REG(0x6001F000 + 0x64) = 0x50D83AA1; REG(0x6001F000 + 0x48) = 0; REG(0x60020000 + 0x64) = 0x50D83AA1; REG(0x60020000 + 0x48) = 0;
#endif
    main();
    __asm volatile("csrci mstatus, 8\n1: j 1b");
}
)";

// The ELF's path; empty with a message in the log. The source may use `results` and REG.
inline QString compile(const QTemporaryDir& folder, const QString& source, const QStringList& options, const QString& start = kStart)
{
    const QString place = folderWith(folder, {{"program.c", "__asm(\".option arch, +zicsr, +zifencei\");\n#include <stdint.h>\nextern volatile uint32_t results[256];\n#define REG(a) (*(volatile uint32_t *)(a))\n" + source}, {"start.c", start}, {"layout.ld", kLayout}});
    const QStringList arguments = QStringList{"-march=rv32imc", "-mabi=ilp32", "-g", "-std=gnu11", "-ffreestanding", "-fwrapv", "-msmall-data-limit=0", "-nostartfiles", "-nostdlib", "-Tlayout.ld", "-o", "program.elf", "program.c", "start.c"} + options + QStringList{"-lgcc"};
    return runTool(place, "riscv64-unknown-elf-gcc", arguments) ? place + "/program.elf" : QString();
}

}  // namespace bramix::test::riscv
