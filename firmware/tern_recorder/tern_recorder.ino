// A recorder for any board with the usual core: a receiver's data pin in, pulses over the serial port out. Both levels
// are told as they are taken for marks and spaces below; the application finds out by itself if that is wrong.
#include <Arduino.h>

#include "core.h"

const uint8_t kReceiver = 2;        // a pin that can interrupt
const uint8_t kSender = 3;          // a pin with hardware PWM on the 8-bit boards; the carrier is made in software
const bool kMarkIsLow = true;       // infrared receivers pull their output low during a mark
const uint32_t kSilenceUs = 20000;  // told as soon as it has lasted that long
const uint8_t kTickUs = 4;

tern::Ring ring;
tern::Orders orders;
volatile uint32_t last_us = 0;
uint8_t line_number = 0;
bool silence_told = true;

void on_edge() {
  const uint32_t now = micros();
  const uint32_t lasted = now - last_us;
  last_us = now;
  const bool was_mark = (digitalRead(kReceiver) == HIGH) == kMarkIsLow;
  const tern::Duration duration = static_cast<tern::Duration>(lasted > tern::kLongest ? tern::kLongest : lasted);
  ring.put(was_mark ? duration : -duration);
}

void print_waiting() {
  tern::Duration durations[tern::kLineDurations];
  uint8_t count = 0;
  while (count < tern::kLineDurations && ring.take(&durations[count])) ++count;
  if (!count) return;
  char text[tern::kLineDurations * 11 + 12];
  const uint16_t length = tern::write_line(durations, count, line_number++, text, sizeof text);
  Serial.write(reinterpret_cast<const uint8_t *>(text), length);
}

void send_frame() {
  const uint32_t half_us = 500000UL / (orders.carrier_hz() ? orders.carrier_hz() : 38000UL);
  for (uint16_t i = 0; i < orders.count(); ++i) {
    const tern::Duration d = orders.durations()[i];
    const uint32_t begin = micros();
    while (micros() - begin < static_cast<uint32_t>(d < 0 ? -d : d)) {
      if (d > 0) {
        digitalWrite(kSender, HIGH);
        delayMicroseconds(half_us);
        digitalWrite(kSender, LOW);
        delayMicroseconds(half_us);
      }
    }
  }
}

void greet() {
  char text[64];
  const uint16_t length = tern::write_hello("board", kTickUs, text, sizeof text);
  Serial.write(reinterpret_cast<const uint8_t *>(text), length);
}

void setup() {
  pinMode(kReceiver, INPUT_PULLUP);
  pinMode(kSender, OUTPUT);
  Serial.begin(115200);
  greet();  // so that the other side knows of a reset: line numbers begin anew
  last_us = micros();
  attachInterrupt(digitalPinToInterrupt(kReceiver), on_edge, CHANGE);
}

void loop() {
  noInterrupts();
  const uint32_t quiet = micros() - last_us;
  interrupts();
  const bool rests = (digitalRead(kReceiver) == HIGH) == kMarkIsLow;
  if (quiet < kSilenceUs) {
    silence_told = false;
  } else if (!silence_told && rests) {
    noInterrupts();
    last_us += kSilenceUs;  // the rest of this silence is told by the edge that ends it
    ring.put(-static_cast<tern::Duration>(kSilenceUs));
    interrupts();
    silence_told = true;
  }
  if (ring.waiting() >= tern::kLineDurations || (ring.waiting() && quiet > 5000)) print_waiting();
  if (ring.overflowed()) {
    ++line_number;  // a line is missing, which the other side notices by its number
  }
  while (Serial.available()) {
    switch (orders.feed(static_cast<char>(Serial.read()))) {
      case tern::kHello:
        greet();
        break;
      case tern::kSend:
        send_frame();
        Serial.write(reinterpret_cast<const uint8_t *>("# sent\n"), 7);
        break;
      case tern::kBad:
        Serial.write(reinterpret_cast<const uint8_t *>("# order not understood\n"), 23);
        break;
      case tern::kNothing:
        break;
    }
  }
}
