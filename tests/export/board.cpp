// The part of a board's core that a generated sketch uses, with a simulated clock: what standard input says comes over
// the serial line, answers go to standard output, and what the sender's pin did to the file named first.
#include "Arduino.h"

#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <vector>

void setup();
void loop();

static uint64_t now_us = 0, edge_us = 0;
static bool level = false;
static std::vector<long> pin;
static std::vector<char> input;
static size_t at = 0;
static int button = -1, polls = 0;
SerialPort Serial;

uint32_t micros() { return static_cast<uint32_t>(now_us += 2); }
int digitalRead(uint8_t number) {
  if (number != button) return HIGH;
  return polls-- > 0 ? LOW : HIGH;
}
void digitalWrite(uint8_t, uint8_t value) {
  now_us += 1;
  if ((value == HIGH) == level) return;
  pin.push_back((level ? 1 : -1) * static_cast<long>(now_us - edge_us));
  edge_us = now_us;
  level = value == HIGH;
}
void pinMode(uint8_t, uint8_t) {}
void SerialPort::begin(uint32_t) {}
int SerialPort::available() { return static_cast<int>(input.size() - at); }
int SerialPort::read() { return at < input.size() ? input[at++] : -1; }
size_t SerialPort::write(const uint8_t *data, size_t length) { return std::fwrite(data, 1, length, stdout); }

int main(int, char **argv) {
  int c;
  while ((c = std::getchar()) != EOF) input.push_back(static_cast<char>(c));
  if (argv[2]) button = std::atoi(argv[2]), polls = std::atoi(argv[3]);
  setup();
  do loop();
  while (at < input.size());
  std::FILE *file = std::fopen(argv[1], "w");
  for (long each : pin) std::fprintf(file, "%ld ", each);
  std::fclose(file);
}
