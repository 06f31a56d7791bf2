// The part of the usual core's interface that the sketch uses, declared so that it can be compiled without that core.
#pragma once

#include <stddef.h>
#include <stdint.h>
#ifdef __AVR__
#include <avr/io.h>
#endif
#ifndef F_CPU
#define F_CPU 16000000UL
#endif

const uint8_t LOW = 0, HIGH = 1, OUTPUT = 1, INPUT_PULLUP = 2;
const int CHANGE = 1;

uint32_t micros();
void delayMicroseconds(uint32_t us);
int digitalRead(uint8_t pin);
void digitalWrite(uint8_t pin, uint8_t level);
void pinMode(uint8_t pin, uint8_t mode);
uint8_t digitalPinToInterrupt(uint8_t pin);
void attachInterrupt(uint8_t number, void (*handler)(), int mode);
void interrupts();
void noInterrupts();

struct SerialPort {
  void begin(uint32_t speed);
  int available();
  int read();
  size_t write(const uint8_t *data, size_t length);
};
extern SerialPort Serial;
