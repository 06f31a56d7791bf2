// What a recorder does, without the board: durations in a ring, lines with number and checksum, orders understood.
// Plain C++11 without a heap, so that it is tested on any computer and runs on an 8-bit board. docs/recorder.md in the
// application's repository describes the lines.
#pragma once

#include <stdint.h>

namespace tern {

const uint8_t kVersion = 1;
const uint8_t kRing = 128;           // durations that may wait for the serial line; a power of two
const uint8_t kLineDurations = 24;   // at most in a line
const uint16_t kMostToSend = 160;    // durations of a frame to be sent
const uint32_t kLongest = 100000000; // µs; a longer silence is told in pieces

// A duration with its sign: a mark is positive, a space negative, µs.
typedef int32_t Duration;

// Filled by the interrupt, emptied by the main loop. A full ring drops what comes and says so.
class Ring {
 public:
  bool put(Duration duration);
  bool take(Duration *duration);
  uint8_t waiting() const { return static_cast<uint8_t>(head_ - tail_); }
  bool overflowed();

 private:
  volatile Duration values_[kRing];
  volatile uint8_t head_ = 0, tail_ = 0;
  volatile bool overflowed_ = false;
};

// CRC-8, polynomial 0x07, start and final value 0.
uint8_t checksum(const char *text, uint16_t length);

// Writes "+9012 -4480 # 17 3c\n" into a buffer; gives its length, 0 where it does not fit.
uint16_t write_line(const Duration *durations, uint8_t count, uint8_t number, char *out, uint16_t room);

// Writes the answer to "?".
uint16_t write_hello(const char *name, uint8_t tick_us, char *out, uint16_t room);

// What the other side asks for.
enum Order : uint8_t { kNothing, kHello, kSend, kBad };

// Takes the serial line's characters one by one.
class Orders {
 public:
  // kHello after "?", kSend after "! 38000 +9012 -4480 +560 # 3c" with a checksum that holds, kBad after any other line.
  Order feed(char c);
  uint32_t carrier_hz() const { return carrier_; }
  const Duration *durations() const { return values_; }
  uint16_t count() const { return count_; }

 private:
  Order line_end();
  void begin();
  uint8_t crc_ = 0, at_sum_ = 0, told_ = 0, digits_ = 0;
  char first_ = 0;
  bool comment_ = false, in_number_ = false, negative_ = false, bad_ = false;
  uint32_t number_ = 0, carrier_ = 0;
  uint16_t count_ = 0;
  bool has_carrier_ = false;
  Duration values_[kMostToSend];
  void number_ends();
};

}  // namespace tern
