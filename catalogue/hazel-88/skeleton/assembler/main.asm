; @name@, on a Hazel 88. The lamp on RB3 beats once a second; timer 0 counts hundredths of it in its interrupt.
        list    p=16f88
        include "p16f88.inc"
        __config _CONFIG1, _INTRC_IO & _WDT_OFF & _LVP_OFF & _MCLR_ON & _PWRTE_OFF

lamp    equ     3

shared  udata_shr
ticks   res     1               ; hundredths of the present second
keep_w  res     1
keep_s  res     1

reset   code    0
        goto    start

handler code    4
        movwf   keep_w
        swapf   STATUS, w
        movwf   keep_s
        clrf    STATUS
        btfss   INTCON, TMR0IF
        goto    leave
        bcf     INTCON, TMR0IF
        movlw   .256 - .78      ; 78 ticks of 128 us are a hundredth of a second
        addwf   TMR0, f
        incf    ticks, f
leave   swapf   keep_s, w
        movwf   STATUS
        swapf   keep_w, f
        swapf   keep_w, w
        retfie

main    code
start   banksel OSCCON
        movlw   0x60            ; 4 MHz
        movwf   OSCCON
        movlw   0xC6            ; timer 0 by instruction cycles, through 128
        movwf   OPTION_REG
        bcf     TRISB, lamp
        banksel ANSEL
        clrf    ANSEL
        banksel PORTB
        clrf    ticks
        movlw   1 << GIE | 1 << TMR0IE
        movwf   INTCON
again   movlw   .6              ; 60 ms on
        subwf   ticks, w
        btfss   STATUS, C
        bsf     PORTB, lamp
        btfsc   STATUS, C
        bcf     PORTB, lamp
        movlw   .100
        subwf   ticks, w
        btfsc   STATUS, C
        clrf    ticks
        goto    again
        end
