; Counts turns of the wheel: its switch pulls RB0 low, and is believed when it has been low for eight ticks of two milliseconds.
        list    p=16f88
        include "p16f88.inc"
        global  turns, count_tick, count_begin

shared  udata_shr
turns   res     1
steady  res     1               ; the last eight looks at the switch
beat    res     1

        code
count_begin
        clrf    turns
        movlw   0xFF
        movwf   steady
        clrf    beat
        return

; Every 2048 cycles, within the interrupt.
count_tick
        bcf     INTCON, TMR0IF
        incf    beat, f
        bcf     PORTB, 2
        btfsc   beat, 5
        bsf     PORTB, 2
        bcf     STATUS, C
        btfsc   PORTB, 0
        bsf     STATUS, C
        rlf     steady, f
        movlw   0x80            ; just now low for the eighth time
        xorwf   steady, w
        btfss   STATUS, Z
        return
        incf    turns, f
        return
        end
