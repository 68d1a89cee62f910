# Where the program begins: the mark of direct boot, and what must be done before main().
        .option arch, +zicsr
        .section .begin, "ax"
        .word   0xAEDB041D, 0xAEDB041D
        .global begin
begin:  la      sp, stack_top
        la      t0, data_begin
        la      t1, data_end
        la      t2, data_from
1:      bgeu    t0, t1, 2f
        lw      t3, 0(t2)
        sw      t3, 0(t0)
        addi    t0, t0, 4
        addi    t2, t2, 4
        j       1b
2:      la      t0, bss_begin
        la      t1, bss_end
3:      bgeu    t0, t1, 4f
        sw      zero, 0(t0)
        addi    t0, t0, 4
        j       3b
4:      la      t0, lost
        csrw    mtvec, t0
        call    main
        .balign 4
lost:   j       lost
