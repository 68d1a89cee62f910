// Programs for Cortex-M3 in tests: compiled by the real compiler, linked by hand, with a vector table of their own.
#pragma once

#include <QtTest>

#include <QDir>
#include <QFile>
#include <QProcess>
#include <QStandardPaths>
#include <QTemporaryDir>

namespace bramix::test::arm {

inline bool haveCompiler() { return !QStandardPaths::findExecutable("arm-none-eabi-gcc").isEmpty(); }

// Flash from 0x08000000, RAM from 0x20000000; `results` are the first kilobyte of RAM.
inline const char* const kLayout = R"(
MEMORY { flash : ORIGIN = 0x08000000, LENGTH = 64K  ram : ORIGIN = 0x20000000, LENGTH = 20K }
ENTRY(begin)
SECTIONS
{
    .text : { KEEP(*(.vectors)) *(.text*) *(.rodata*) } > flash
    .ARM.exidx : { *(.ARM.exidx*) } > flash
    results (NOLOAD) : { KEEP(*(.results)) . = 1024; } > ram
    .data : { data_begin = .; *(.data*) . = ALIGN(4); data_end = .; } > ram AT> flash
    data_from = LOADADDR(.data);
    .bss : { bss_begin = .; *(.bss*) *(COMMON) . = ALIGN(4); bss_end = .; } > ram
    stack_top = ORIGIN(ram) + LENGTH(ram);
}
)";

// Handlers that a program does not define end in a loop.
inline const char* const kStart = R"(
#include <stdint.h>
extern uint32_t data_begin[], data_end[], data_from[], bss_begin[], bss_end[], stack_top[];
__attribute__((section(".results"))) volatile uint32_t results[256];
int main(void);
void lost(void) { for (;;) ; }
#define HANDLER(name) void name(void) __attribute__((weak, alias("lost")))
HANDLER(NMI_Handler); HANDLER(HardFault_Handler); HANDLER(MemManage_Handler); HANDLER(BusFault_Handler); HANDLER(UsageFault_Handler);
HANDLER(SVC_Handler); HANDLER(PendSV_Handler); HANDLER(SysTick_Handler); HANDLER(EXTI0_IRQHandler); HANDLER(DMA1_Channel4_IRQHandler); HANDLER(TIM2_IRQHandler); HANDLER(TIM3_IRQHandler); HANDLER(USART1_IRQHandler);
void begin(void)
{
    for (uint32_t *to = data_begin, *from = data_from; to < data_end;)
        *to++ = *from++;
    for (uint32_t *to = bss_begin; to < bss_end;)
        *to++ = 0;
    main();
    __asm volatile("cpsid i\n1: b 1b");
}
__attribute__((section(".vectors"), used)) const void *const vectors[16 + 43] = {
    stack_top, begin, NMI_Handler, HardFault_Handler, MemManage_Handler, BusFault_Handler, UsageFault_Handler, 0, 0, 0, 0, SVC_Handler, 0, 0, PendSV_Handler, SysTick_Handler,
    [16 + 6] = EXTI0_IRQHandler, [16 + 14] = DMA1_Channel4_IRQHandler, [16 + 28] = TIM2_IRQHandler, [16 + 29] = TIM3_IRQHandler, [16 + 37] = USART1_IRQHandler,
};
)";

// The ELF's path; empty with a message in the log. The source may use `results`; what begins it may be another than kStart.
inline QString compile(const QTemporaryDir& folder, const QString& source, const QStringList& options, const QString& start = kStart)
{
    static int count = 0;
    const QString place = folder.filePath(QString("arm%1").arg(++count));
    QDir().mkpath(place);
    const auto write = [&](const char* name, const QString& text) {
        QFile file(place + "/" + name);
        if (file.open(QIODevice::WriteOnly))
            file.write(text.toUtf8());
    };
    write("program.c", "#include <stdint.h>\nextern volatile uint32_t results[256];\n" + source);
    write("start.c", start);
    write("layout.ld", kLayout);
    QProcess compiler;
    compiler.setWorkingDirectory(place);
    compiler.start("arm-none-eabi-gcc", QStringList{"-mcpu=cortex-m3", "-mthumb", "-g", "-std=gnu11", "-ffreestanding", "-fwrapv", "-nostartfiles", "-Tlayout.ld", "-o", "program.elf", "program.c", "start.c"} + options + QStringList{"-lgcc"});
    if (!compiler.waitForFinished(60'000) || compiler.exitCode() != 0) {
        qWarning("%s", compiler.readAllStandardError().constData());
        return {};
    }
    return place + "/program.elf";
}

}  // namespace bramix::test::arm
