// A recorder for any board with the usual core: a receiver's data pin in, pulses over the serial port out. Both levels
// are told as they are taken for marks and spaces below; the application finds out by itself if that is wrong.
#include <Arduino.h>

#include "core.h"

const uint8_t kReceiver = 2;        // a pin that can interrupt
const uint8_t kSender = 3;          // where the 8-bit boards' timer 2 makes the carrier; others make it in software
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

#if defined(__AVR_ATmega328P__)
// Timer 2 makes the carrier on pin 3 (OC2B): exact cycles, whatever the loop does.
struct Timer {
  static bool set(uint32_t hz, uint8_t duty) {
    const tern::Carrier carrier = tern::timer_carrier(F_CPU, hz, duty);
    OCR2A = carrier.top;
    OCR2B = carrier.compare;
    TCCR2B = 0x0A;  // fast PWM up to OCR2A, an eighth of the clock
    TCCR2A = 0x03;
    return carrier.real_hz != 0;
  }
  static void on() {
    TCNT2 = 0;
    TCCR2A = 0x23;
  }
  static void off() { TCCR2A = 0x03; }
};
#else
struct Timer {
  static bool set(uint32_t, uint8_t) { return false; }
  static void on() {}
  static void off() {}
};
#endif

struct Sender {
  bool carrier_by_timer, halted;

  uint32_t micros() { return ::micros(); }
  void mark() {
    if (carrier_by_timer) {
      Timer::on();
    } else {
      digitalWrite(kSender, HIGH);
    }
  }
  void half_cycle(bool high) { digitalWrite(kSender, high ? HIGH : LOW); }
  void space() {
    if (carrier_by_timer) Timer::off();
    digitalWrite(kSender, LOW);
  }
  void said(uint16_t frames) {
    char text[16];
    const uint16_t length = tern::write_said(frames, text, sizeof text);
    Serial.write(reinterpret_cast<const uint8_t *>(text), length);
  }
  bool stopped() {
    while (Serial.available()) halted |= Serial.read() == 's';  // nothing but "stop" is sent meanwhile
    return halted;
  }
};

void send_press(uint16_t times) {
  const uint32_t carrier = orders.carrier_hz();
  Sender sender = {carrier != 0 && Timer::set(carrier, orders.duty_percent()), false};
  tern::say(sender, orders.press(), times, carrier, sender.carrier_by_timer);
  const char *words = sender.halted ? "# stopped\n" : "# sent\n";
  Serial.write(reinterpret_cast<const uint8_t *>(words), sender.halted ? 10 : 7);
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
    const tern::Order order = orders.feed(static_cast<char>(Serial.read()));
    if (order == tern::kHello) greet();
    if (order == tern::kSend) send_press(1);
    if (order == tern::kGo) send_press(orders.times());
    if (order == tern::kStop) Serial.write(reinterpret_cast<const uint8_t *>("# stopped\n"), 10);
    char text[32];
    Serial.write(reinterpret_cast<const uint8_t *>(text), orders.answer(order, text, sizeof text));
  }
}
