// ATtiny85 (datasheet 2586: ch. 23 "Register Summary", 9 "Interrupts", 10.2 "Alternate Port Functions", 1 "Pin Configurations").
#include "chip/avr/chip_tables.h"

namespace bramix::chip::avr {

namespace {

using enum RegisterKind;

constexpr std::array kRegisters{
    RegisterRow{"ADCSRB", 0x23, "BIN ACME IPR - - ADTS2 ADTS1 ADTS0"},
    RegisterRow{"ADCL", 0x24, ""},
    RegisterRow{"ADCH", 0x25, ""},
    RegisterRow{"ADCSRA", 0x26, "ADEN ADSC ADATE ADIF ADIE ADPS2 ADPS1 ADPS0"},
    RegisterRow{"ADMUX", 0x27, "REFS1 REFS0 ADLAR REFS2 MUX3 MUX2 MUX1 MUX0"},
    RegisterRow{"ACSR", 0x28, "ACD ACBG ACO ACI ACIE - ACIS1 ACIS0"},
    RegisterRow{"USICR", 0x2D, "USISIE USIOIE USIWM1 USIWM0 USICS1 USICS0 USICLK USITC"},
    RegisterRow{"USISR", 0x2E, "USISIF USIOIF USIPF USIDC USICNT3 USICNT2 USICNT1 USICNT0"},
    RegisterRow{"USIDR", 0x2F, ""},
    RegisterRow{"USIBR", 0x30, ""},
    RegisterRow{"GPIOR0", 0x31, ""},
    RegisterRow{"GPIOR1", 0x32, ""},
    RegisterRow{"GPIOR2", 0x33, ""},
    RegisterRow{"DIDR0", 0x34, "- - ADC0D ADC2D ADC3D ADC1D AIN1D AIN0D"},
    RegisterRow{"PCMSK", 0x35, "- - PCINT5 PCINT4 PCINT3 PCINT2 PCINT1 PCINT0"},
    RegisterRow{"PINB", 0x36, "- - PINB5 PINB4 PINB3 PINB2 PINB1 PINB0", flags},
    RegisterRow{"DDRB", 0x37, "- - DDB5 DDB4 DDB3 DDB2 DDB1 DDB0"},
    RegisterRow{"PORTB", 0x38, "- - PORTB5 PORTB4 PORTB3 PORTB2 PORTB1 PORTB0"},
    RegisterRow{"EECR", 0x3C, "- - EEPM1 EEPM0 EERIE EEMPE EEPE EERE"},
    RegisterRow{"EEDR", 0x3D, ""},
    RegisterRow{"EEARL", 0x3E, ""},
    RegisterRow{"EEARH", 0x3F, "- - - - - - - EEAR8"},
    RegisterRow{"PRR", 0x40, "- - - - PRTIM1 PRTIM0 PRUSI PRADC"},
    RegisterRow{"WDTCR", 0x41, "WDIF WDIE WDP3 WDCE WDE WDP2 WDP1 WDP0"},
    RegisterRow{"DWDR", 0x42, "", later},
    RegisterRow{"DTPS1", 0x43, "- - - - - - DTPS11 DTPS10"},
    RegisterRow{"DT1B", 0x44, "DT1BH3 DT1BH2 DT1BH1 DT1BH0 DT1BL3 DT1BL2 DT1BL1 DT1BL0"},
    RegisterRow{"DT1A", 0x45, "DT1AH3 DT1AH2 DT1AH1 DT1AH0 DT1AL3 DT1AL2 DT1AL1 DT1AL0"},
    RegisterRow{"CLKPR", 0x46, "CLKPCE - - - CLKPS3 CLKPS2 CLKPS1 CLKPS0"},
    RegisterRow{"PLLCSR", 0x47, "LSM - - - - PCKE PLLE PLOCK"},
    RegisterRow{"OCR0B", 0x48, ""},
    RegisterRow{"OCR0A", 0x49, ""},
    RegisterRow{"TCCR0A", 0x4A, "COM0A1 COM0A0 COM0B1 COM0B0 - - WGM01 WGM00"},
    RegisterRow{"OCR1B", 0x4B, ""},
    RegisterRow{"GTCCR", 0x4C, "TSM PWM1B COM1B1 COM1B0 FOC1B FOC1A PSR1 PSR0"},
    RegisterRow{"OCR1C", 0x4D, ""},
    RegisterRow{"OCR1A", 0x4E, ""},
    RegisterRow{"TCNT1", 0x4F, ""},
    RegisterRow{"TCCR1", 0x50, "CTC1 PWM1A COM1A1 COM1A0 CS13 CS12 CS11 CS10"},
    RegisterRow{"OSCCAL", 0x51, ""},
    RegisterRow{"TCNT0", 0x52, ""},
    RegisterRow{"TCCR0B", 0x53, "FOC0A FOC0B - - WGM02 CS02 CS01 CS00"},
    RegisterRow{"MCUSR", 0x54, "- - - - WDRF BORF EXTRF PORF"},
    RegisterRow{"MCUCR", 0x55, "BODS PUD SE SM1 SM0 BODSE ISC01 ISC00"},
    RegisterRow{"SPMCSR", 0x57, "- - RSIG CTPB RFLB PGWRT PGERS SPMEN"},
    RegisterRow{"TIFR", 0x58, "- OCF1A OCF1B OCF0A OCF0B TOV1 TOV0 -", flags},
    RegisterRow{"TIMSK", 0x59, "- OCIE1A OCIE1B OCIE0A OCIE0B TOIE1 TOIE0 -"},
    RegisterRow{"GIFR", 0x5A, "- INTF0 PCIF - - - - -", flags},
    RegisterRow{"GIMSK", 0x5B, "- INT0 PCIE - - - - -"},
    RegisterRow{"SPL", 0x5D, ""},
    RegisterRow{"SPH", 0x5E, ""},
    RegisterRow{"SREG", 0x5F, "I T H S V N Z C"},
};

constexpr std::array kVectors{
    VectorRow{"RESET"},
    VectorRow{"INT0", Sleep::powerDown},
    VectorRow{"PCINT0", Sleep::powerDown},
    VectorRow{"TIMER1_COMPA"},
    VectorRow{"TIMER1_OVF"},
    VectorRow{"TIMER0_OVF"},
    VectorRow{"EE_RDY", Sleep::noiseReduction},
    VectorRow{"ANA_COMP"},
    VectorRow{"ADC", Sleep::noiseReduction},
    VectorRow{"TIMER1_COMPB"},
    VectorRow{"TIMER0_COMPA"},
    VectorRow{"TIMER0_COMPB"},
    VectorRow{"WDT", Sleep::powerDown},
    VectorRow{"USI_START", Sleep::powerDown},
    VectorRow{"USI_OVF"},
};

constexpr std::array kPorts{PortRow{'B', 0x3F}};

constexpr std::array kTimers{TimerRow{'0', 8}};

// Table 17-4, by MUX3:0.
constexpr std::array<AdcChannelRow, 16> kAdcChannels{{
    {0}, {1}, {2}, {3}, {2, 2, 1}, {2, 2, 20}, {2, 3, 1}, {2, 3, 20},
    {0, 0, 1}, {0, 0, 20}, {0, 1, 1}, {0, 1, 20}, {kAdcBandGap}, {kAdcGround}, {kAdcNothing}, {kAdcTemperature},
}};

constexpr std::array kFuses{
    FuseRow{"CKSEL", 0, 0, 4, "clock source"},
    FuseRow{"SUT", 0, 4, 2, "start-up time"},
    FuseRow{"CKOUT", 0, 6, 1, "clock output on CLKO"},
    FuseRow{"CKDIV8", 0, 7, 1, "divide the clock by 8 at start"},
    FuseRow{"BODLEVEL", 1, 0, 3, "brown-out level"},
    FuseRow{"EESAVE", 1, 3, 1, "keep the EEPROM at chip erase"},
    FuseRow{"WDTON", 1, 4, 1, "watchdog always on"},
    FuseRow{"SPIEN", 1, 5, 1, "serial programming"},
    FuseRow{"DWEN", 1, 6, 1, "debugging by the reset line"},
    FuseRow{"RSTDISBL", 1, 7, 1, "reset pin is PB5"},
    FuseRow{"SELFPRGEN", 2, 0, 1, "self-programming"},
    FuseRow{"LB", 3, 0, 2, "memory lock"},
};

constexpr std::array kPackage{
    PackagePin{1, "RESET", "PB5 ADC0 PCINT5 dW"},
    PackagePin{2, "PB3", "XTAL1 CLKI ADC3 /OC1B PCINT3"},
    PackagePin{3, "PB4", "XTAL2 CLKO ADC2 OC1B PCINT4"},
    PackagePin{4, "GND", "ground"},
    PackagePin{5, "PB0", "DI SDA AIN0 OC0A /OC1A AREF PCINT0"},
    PackagePin{6, "PB1", "DO AIN1 OC0B OC1A PCINT1"},
    PackagePin{7, "PB2", "USCK SCL ADC1 T0 INT0 PCINT2"},
    PackagePin{8, "VCC", "supply"},
};

}  // namespace

const ChipTable& attiny85()
{
    using enum ClockSource;
    static const ChipTable table{
        .id = "attiny85",
        .title = "ATtiny85",
        .about = "8-bit AVR, 8 KB flash, 512 bytes SRAM, 6 I/O lines",
        .signature = {0x1E, 0x93, 0x0B},
        .flashBytes = 8 * 1024,
        .pageBytes = 64,
        .eepromBytes = 512,
        .core = {.flashWords = 4 * 1024, .ramStart = 0x60, .ramEnd = 0x25F, .hasMul = false, .hasJmp = false},
        .usualHz = 8'000'000,
        .highestVolts = 5.5,
        .supply = {.activeAmps = 5e-3, .idleAmps = 1.2e-3, .downAmps = 0.1e-6, .watchdogAmps = 4e-6},  // table 21-2
        .ioEnd = 0x60,
        .registers = kRegisters,
        .vectors = kVectors,
        .vectorWords = 1,
        .ports = kPorts,
        .timers = kTimers,
        .usarts = {},
        .hasHighSpeedTimer = true,
        .adcChannels = kAdcChannels,
        .references = {Reference::avcc, Reference::aref, Reference::bandGap, Reference::reserved, Reference::avcc, Reference::aref, Reference::volts256, Reference::volts256},
        .fuses = kFuses,
        .fuseDefaults = {0x62, 0xDF, 0xFF, 0xFF},
        .clockSources = {ClockSource::external, pll, rc8, rc6, rc128k, reserved, watch, reserved, crystal, crystal, crystal, crystal, crystal, crystal, crystal, crystal},
        .brownOutVolts = {0, 0, 0, 0, 4.3, 2.7, 1.8, 0},
        .package = kPackage,
    };
    return table;
}

}  // namespace bramix::chip::avr
