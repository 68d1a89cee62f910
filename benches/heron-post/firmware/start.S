@ Where the program begins: stacks of two modes, the vector table at 0, interrupts on.
        .section .begin, "ax"
        .arm
        .global begin
        .type   begin, %function
begin:  msr     cpsr_c, #0xD2           @ IRQ mode
        ldr     sp, =irq_stack
        msr     cpsr_c, #0xD3           @ supervisor mode
        ldr     sp, =stack_top
        adr     r0, vectors
        mov     r1, #0
        ldmia   r0!, {r2-r9}
        stmia   r1!, {r2-r9}
        ldmia   r0!, {r2-r9}
        stmia   r1!, {r2-r9}
        ldr     r0, =bss_begin
        ldr     r1, =bss_end
        mov     r2, #0
1:      cmp     r0, r1
        strlo   r2, [r0], #4
        blo     1b
        msr     cpsr_c, #0x53           @ interrupts on
        bl      main
lost:   b       lost
        .size   begin, . - begin

@ What lies behind IRQ: registers that C may spoil, and back to what was interrupted.
        .type   irq_entry, %function
irq_entry:
        sub     lr, lr, #4
        stmfd   sp!, {r0-r3, r12, lr}
        bl      irq_handler
        ldmfd   sp!, {r0-r3, r12, pc}^
        .size   irq_entry, . - irq_entry

vectors:
        ldr     pc, [pc, #24]
        ldr     pc, [pc, #24]
        ldr     pc, [pc, #24]
        ldr     pc, [pc, #24]
        ldr     pc, [pc, #24]
        nop
        ldr     pc, [pc, #24]
        ldr     pc, [pc, #24]
        .word   begin, lost, lost, lost, lost, 0, irq_entry, lost
        .ltorg
