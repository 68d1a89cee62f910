// ATmega328P (datasheet DS40002061B: ch. 36 "Register Summary", 12 "Interrupts", 14.3 "Alternate Port Functions", 5 "Pinout").
#include "chip/avr/table.h"

namespace bramix::chip::avr {

namespace {

using enum RegisterKind;

constexpr std::array kRegisters{
    RegisterRow{"PINB", 0x23, "PINB7 PINB6 PINB5 PINB4 PINB3 PINB2 PINB1 PINB0", flags},
    RegisterRow{"DDRB", 0x24, "DDB7 DDB6 DDB5 DDB4 DDB3 DDB2 DDB1 DDB0"},
    RegisterRow{"PORTB", 0x25, "PORTB7 PORTB6 PORTB5 PORTB4 PORTB3 PORTB2 PORTB1 PORTB0"},
    RegisterRow{"PINC", 0x26, "- PINC6 PINC5 PINC4 PINC3 PINC2 PINC1 PINC0", flags},
    RegisterRow{"DDRC", 0x27, "- DDC6 DDC5 DDC4 DDC3 DDC2 DDC1 DDC0"},
    RegisterRow{"PORTC", 0x28, "- PORTC6 PORTC5 PORTC4 PORTC3 PORTC2 PORTC1 PORTC0"},
    RegisterRow{"PIND", 0x29, "PIND7 PIND6 PIND5 PIND4 PIND3 PIND2 PIND1 PIND0", flags},
    RegisterRow{"DDRD", 0x2A, "DDD7 DDD6 DDD5 DDD4 DDD3 DDD2 DDD1 DDD0"},
    RegisterRow{"PORTD", 0x2B, "PORTD7 PORTD6 PORTD5 PORTD4 PORTD3 PORTD2 PORTD1 PORTD0"},
    RegisterRow{"TIFR0", 0x35, "- - - - - OCF0B OCF0A TOV0", flags},
    RegisterRow{"TIFR1", 0x36, "- - ICF1 - - OCF1B OCF1A TOV1", flags},
    RegisterRow{"TIFR2", 0x37, "- - - - - OCF2B OCF2A TOV2", flags},
    RegisterRow{"PCIFR", 0x3B, "- - - - - PCIF2 PCIF1 PCIF0", flags},
    RegisterRow{"EIFR", 0x3C, "- - - - - - INTF1 INTF0", flags},
    RegisterRow{"EIMSK", 0x3D, "- - - - - - INT1 INT0"},
    RegisterRow{"GPIOR0", 0x3E, ""},
    RegisterRow{"EECR", 0x3F, "- - EEPM1 EEPM0 EERIE EEMPE EEPE EERE", later, 0x03},
    RegisterRow{"EEDR", 0x40, "", later},
    RegisterRow{"EEARL", 0x41, "", later},
    RegisterRow{"EEARH", 0x42, "", later},
    RegisterRow{"GTCCR", 0x43, "TSM - - - - - PSRASY PSRSYNC"},
    RegisterRow{"TCCR0A", 0x44, "COM0A1 COM0A0 COM0B1 COM0B0 - - WGM01 WGM00"},
    RegisterRow{"TCCR0B", 0x45, "FOC0A FOC0B - - WGM02 CS02 CS01 CS00"},
    RegisterRow{"TCNT0", 0x46, ""},
    RegisterRow{"OCR0A", 0x47, ""},
    RegisterRow{"OCR0B", 0x48, ""},
    RegisterRow{"GPIOR1", 0x4A, ""},
    RegisterRow{"GPIOR2", 0x4B, ""},
    RegisterRow{"SPCR", 0x4C, "SPIE SPE DORD MSTR CPOL CPHA SPR1 SPR0", later},
    RegisterRow{"SPSR", 0x4D, "SPIF WCOL - - - - - SPI2X", later, 0x40, 0x80},
    RegisterRow{"SPDR", 0x4E, "", later},
    RegisterRow{"ACSR", 0x50, "ACD ACBG ACO ACI ACIE ACIC ACIS1 ACIS0", later},
    RegisterRow{"SMCR", 0x53, "- - - - SM2 SM1 SM0 SE"},
    RegisterRow{"MCUSR", 0x54, "- - - - WDRF BORF EXTRF PORF"},
    RegisterRow{"MCUCR", 0x55, "- BODS BODSE PUD - - IVSEL IVCE"},
    RegisterRow{"SPMCSR", 0x57, "SPMIE RWWSB SIGRD RWWSRE BLBSET PGWRT PGERS SELFPRGEN", later, 0x41},
    RegisterRow{"SPL", 0x5D, ""},
    RegisterRow{"SPH", 0x5E, ""},
    RegisterRow{"SREG", 0x5F, "I T H S V N Z C"},
    RegisterRow{"WDTCSR", 0x60, "WDIF WDIE WDP3 WDCE WDE WDP2 WDP1 WDP0", later},
    RegisterRow{"CLKPR", 0x61, "CLKPCE - - - CLKPS3 CLKPS2 CLKPS1 CLKPS0", later},
    RegisterRow{"PRR", 0x64, "PRTWI PRTIM2 PRTIM0 - PRTIM1 PRSPI PRUSART0 PRADC", later},
    RegisterRow{"OSCCAL", 0x66, "", later},
    RegisterRow{"PCICR", 0x68, "- - - - - PCIE2 PCIE1 PCIE0"},
    RegisterRow{"EICRA", 0x69, "- - - - ISC11 ISC10 ISC01 ISC00"},
    RegisterRow{"PCMSK0", 0x6B, "PCINT7 PCINT6 PCINT5 PCINT4 PCINT3 PCINT2 PCINT1 PCINT0"},
    RegisterRow{"PCMSK1", 0x6C, "- PCINT14 PCINT13 PCINT12 PCINT11 PCINT10 PCINT9 PCINT8"},
    RegisterRow{"PCMSK2", 0x6D, "PCINT23 PCINT22 PCINT21 PCINT20 PCINT19 PCINT18 PCINT17 PCINT16"},
    RegisterRow{"TIMSK0", 0x6E, "- - - - - OCIE0B OCIE0A TOIE0"},
    RegisterRow{"TIMSK1", 0x6F, "- - ICIE1 - - OCIE1B OCIE1A TOIE1"},
    RegisterRow{"TIMSK2", 0x70, "- - - - - OCIE2B OCIE2A TOIE2"},
    RegisterRow{"ADCL", 0x78, "", later},
    RegisterRow{"ADCH", 0x79, "", later},
    RegisterRow{"ADCSRA", 0x7A, "ADEN ADSC ADATE ADIF ADIE ADPS2 ADPS1 ADPS0", later, 0x40},
    RegisterRow{"ADCSRB", 0x7B, "- ACME - - - ADTS2 ADTS1 ADTS0", later},
    RegisterRow{"ADMUX", 0x7C, "REFS1 REFS0 ADLAR - MUX3 MUX2 MUX1 MUX0", later},
    RegisterRow{"DIDR0", 0x7E, "- - ADC5D ADC4D ADC3D ADC2D ADC1D ADC0D", later},
    RegisterRow{"DIDR1", 0x7F, "- - - - - - AIN1D AIN0D", later},
    RegisterRow{"TCCR1A", 0x80, "COM1A1 COM1A0 COM1B1 COM1B0 - - WGM11 WGM10"},
    RegisterRow{"TCCR1B", 0x81, "ICNC1 ICES1 - WGM13 WGM12 CS12 CS11 CS10"},
    RegisterRow{"TCCR1C", 0x82, "FOC1A FOC1B - - - - - -"},
    RegisterRow{"TCNT1L", 0x84, ""},
    RegisterRow{"TCNT1H", 0x85, ""},
    RegisterRow{"ICR1L", 0x86, ""},
    RegisterRow{"ICR1H", 0x87, ""},
    RegisterRow{"OCR1AL", 0x88, ""},
    RegisterRow{"OCR1AH", 0x89, ""},
    RegisterRow{"OCR1BL", 0x8A, ""},
    RegisterRow{"OCR1BH", 0x8B, ""},
    RegisterRow{"TCCR2A", 0xB0, "COM2A1 COM2A0 COM2B1 COM2B0 - - WGM21 WGM20"},
    RegisterRow{"TCCR2B", 0xB1, "FOC2A FOC2B - - WGM22 CS22 CS21 CS20"},
    RegisterRow{"TCNT2", 0xB2, ""},
    RegisterRow{"OCR2A", 0xB3, ""},
    RegisterRow{"OCR2B", 0xB4, ""},
    RegisterRow{"ASSR", 0xB6, "- EXCLK AS2 TCN2UB OCR2AUB OCR2BUB TCR2AUB TCR2BUB", later, 0x1F},
    RegisterRow{"TWBR", 0xB8, "", later},
    RegisterRow{"TWSR", 0xB9, "TWS7 TWS6 TWS5 TWS4 TWS3 - TWPS1 TWPS0", later},
    RegisterRow{"TWAR", 0xBA, "TWA6 TWA5 TWA4 TWA3 TWA2 TWA1 TWA0 TWGCE", later},
    RegisterRow{"TWDR", 0xBB, "", later},
    RegisterRow{"TWCR", 0xBC, "TWINT TWEA TWSTA TWSTO TWWC TWEN - TWIE", later, 0x10, 0x80},
    RegisterRow{"TWAMR", 0xBD, "TWAM6 TWAM5 TWAM4 TWAM3 TWAM2 TWAM1 TWAM0 -", later},
    RegisterRow{"UCSR0A", 0xC0, "RXC0 TXC0 UDRE0 FE0 DOR0 UPE0 U2X0 MPCM0"},
    RegisterRow{"UCSR0B", 0xC1, "RXCIE0 TXCIE0 UDRIE0 RXEN0 TXEN0 UCSZ02 RXB80 TXB80"},
    RegisterRow{"UCSR0C", 0xC2, "UMSEL01 UMSEL00 UPM01 UPM00 USBS0 UCSZ01 UCSZ00 UCPOL0"},
    RegisterRow{"UBRR0L", 0xC4, ""},
    RegisterRow{"UBRR0H", 0xC5, ""},
    RegisterRow{"UDR0", 0xC6, ""},
};

constexpr std::array kVectors{
    VectorRow{"RESET"},
    VectorRow{"INT0", Sleep::powerDown},
    VectorRow{"INT1", Sleep::powerDown},
    VectorRow{"PCINT0", Sleep::powerDown},
    VectorRow{"PCINT1", Sleep::powerDown},
    VectorRow{"PCINT2", Sleep::powerDown},
    VectorRow{"WDT", Sleep::powerDown},
    VectorRow{"TIMER2_COMPA", Sleep::noiseReduction},
    VectorRow{"TIMER2_COMPB", Sleep::noiseReduction},
    VectorRow{"TIMER2_OVF", Sleep::noiseReduction},
    VectorRow{"TIMER1_CAPT"},
    VectorRow{"TIMER1_COMPA"},
    VectorRow{"TIMER1_COMPB"},
    VectorRow{"TIMER1_OVF"},
    VectorRow{"TIMER0_COMPA"},
    VectorRow{"TIMER0_COMPB"},
    VectorRow{"TIMER0_OVF"},
    VectorRow{"SPI_STC"},
    VectorRow{"USART_RX"},
    VectorRow{"USART_UDRE"},
    VectorRow{"USART_TX"},
    VectorRow{"ADC", Sleep::noiseReduction},
    VectorRow{"EE_READY", Sleep::noiseReduction},
    VectorRow{"ANALOG_COMP"},
    VectorRow{"TWI", Sleep::powerDown},
    VectorRow{"SPM_READY", Sleep::noiseReduction},
};

// PB6 and PB7 belong to the crystal, PC6 is the reset line.
constexpr std::array kPorts{
    PortRow{'B', 0x23, 0x24, 0x25, 0x3F},
    PortRow{'C', 0x26, 0x27, 0x28, 0x3F},
    PortRow{'D', 0x29, 0x2A, 0x2B, 0xFF},
};

constexpr std::array<std::uint16_t, 8> kSharedPrescale{0, 1, 8, 64, 256, 1024, kExternalFalling, kExternalRising};

constexpr std::array kTimers{
    TimerRow{.name = "timer0", .width = 8, .tccra = 0x44, .tccrb = 0x45, .tcnt = 0x46, .ocra = 0x47, .ocrb = 0x48, .timsk = 0x6E, .tifr = 0x35,
             .compA = 14, .compB = 15, .overflow = 16, .ocA = pin('D', 6), .ocB = pin('D', 5), .prescale = kSharedPrescale},
    TimerRow{.name = "timer1", .width = 16, .tccra = 0x80, .tccrb = 0x81, .tccrc = 0x82, .tcnt = 0x84, .ocra = 0x88, .ocrb = 0x8A, .icr = 0x86,
             .timsk = 0x6F, .tifr = 0x36, .compA = 11, .compB = 12, .overflow = 13, .capture = 10, .ocA = pin('B', 1), .ocB = pin('B', 2),
             .prescale = kSharedPrescale},
    TimerRow{.name = "timer2", .width = 8, .tccra = 0xB0, .tccrb = 0xB1, .tcnt = 0xB2, .ocra = 0xB3, .ocrb = 0xB4, .timsk = 0x70, .tifr = 0x37,
             .compA = 7, .compB = 8, .overflow = 9, .ocA = pin('B', 3), .ocB = pin('D', 3), .prescale = {0, 1, 8, 32, 64, 128, 256, 1024},
             .asynchronous = true},
};

constexpr std::array kUsarts{
    UsartRow{.name = "uart0", .ucsra = 0xC0, .ucsrb = 0xC1, .ucsrc = 0xC2, .ubrr = 0xC4, .udr = 0xC6, .rxVector = 18, .udreVector = 19, .txVector = 20,
             .rxd = pin('D', 0), .txd = pin('D', 1)},
};

constexpr std::array kExternal{
    ExternalInterruptRow{pin('D', 2), 1, 0x69, 0},
    ExternalInterruptRow{pin('D', 3), 2, 0x69, 2},
};

constexpr std::array<PortPin, 8> wholePort(char letter, unsigned count)
{
    std::array<PortPin, 8> pins{};
    for (unsigned i = 0; i < count; ++i)
        pins[i] = pin(letter, i);
    return pins;
}

constexpr std::array kPinChange{
    PinChangeRow{0x6B, 3, wholePort('B', 8)},
    PinChangeRow{0x6C, 4, wholePort('C', 7)},
    PinChangeRow{0x6D, 5, wholePort('D', 8)},
};

constexpr std::array kPackage{
    PackagePin{1, "RESET", "PC6 PCINT14"},
    PackagePin{2, "PD0", "RXD PCINT16"},
    PackagePin{3, "PD1", "TXD PCINT17"},
    PackagePin{4, "PD2", "INT0 PCINT18"},
    PackagePin{5, "PD3", "INT1 OC2B PCINT19"},
    PackagePin{6, "PD4", "T0 XCK PCINT20"},
    PackagePin{7, "VCC", "supply"},
    PackagePin{8, "GND", "ground"},
    PackagePin{9, "XTAL1", "PB6 TOSC1"},
    PackagePin{10, "XTAL2", "PB7 TOSC2"},
    PackagePin{11, "PD5", "T1 OC0B PCINT21"},
    PackagePin{12, "PD6", "AIN0 OC0A PCINT22"},
    PackagePin{13, "PD7", "AIN1 PCINT23"},
    PackagePin{14, "PB0", "ICP1 CLKO PCINT0"},
    PackagePin{15, "PB1", "OC1A PCINT1"},
    PackagePin{16, "PB2", "SS OC1B PCINT2"},
    PackagePin{17, "PB3", "MOSI OC2A PCINT3"},
    PackagePin{18, "PB4", "MISO PCINT4"},
    PackagePin{19, "PB5", "SCK PCINT5"},
    PackagePin{20, "AVCC", "analog supply"},
    PackagePin{21, "AREF", "analog reference"},
    PackagePin{22, "GND2", "ground"},
    PackagePin{23, "PC0", "ADC0 PCINT8"},
    PackagePin{24, "PC1", "ADC1 PCINT9"},
    PackagePin{25, "PC2", "ADC2 PCINT10"},
    PackagePin{26, "PC3", "ADC3 PCINT11"},
    PackagePin{27, "PC4", "ADC4 SDA PCINT12"},
    PackagePin{28, "PC5", "ADC5 SCL PCINT13"},
};

}  // namespace

const ChipTable& atmega328p()
{
    static const ChipTable table{
        .id = "atmega328p",
        .title = "ATmega328P",
        .about = "8-bit AVR, 32 KB flash, 2 KB SRAM, 23 I/O lines",
        .signature = {0x1E, 0x95, 0x0F},
        .flashBytes = 32 * 1024,
        .eepromBytes = 1024,
        .bootBytes = 4096,
        .core = {.flashWords = 16 * 1024, .ramStart = 0x100, .ramEnd = 0x8FF},
        .usualHz = 16'000'000,
        .highestVolts = 5.5,
        .ioEnd = 0x100,
        .registers = kRegisters,
        .vectors = kVectors,
        .vectorWords = 2,
        .ports = kPorts,
        .timers = kTimers,
        .usarts = kUsarts,
        .externalInterrupts = kExternal,
        .eimsk = 0x3D,
        .eifr = 0x3C,
        .pinChanges = kPinChange,
        .pcicr = 0x68,
        .pcifr = 0x3B,
        .gtccr = 0x43,
        .mcucr = 0x55,
        .mcusr = 0x54,
        .smcr = 0x53,
        .package = kPackage,
    };
    return table;
}

}  // namespace bramix::chip::avr
