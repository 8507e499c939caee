// A controller in C++: keeps 0.5 m from the wall on its right. One line of JSON comes, one goes, as docs/programs.md says.
// Build it:  g++ -O2 -o wall_follower wall_follower.cpp
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <iostream>
#include <string>

// The least of the numbers in the array of a name, from one share of it to another; null is no wall. -1: there is none.
double nearest(const std::string& line, const std::string& name, double from, double to) {
    size_t at = line.find("\"" + name + "\":[");
    if (at == std::string::npos) return -1;
    at += name.size() + 4;
    size_t count = 1;
    for (size_t k = at; line[k] != ']'; ++k) count += line[k] == ',';
    const char* text = line.c_str() + at;
    double least = -1;
    for (size_t k = 0; k < count; ++k) {
        char* end = nullptr;
        double value = std::strtod(text, &end);
        bool met = end != text;
        text = (met ? end : text + 4) + 1;  // over "null", then over the comma
        if (met && k >= from * count && k < to * count && (least < 0 || value < least)) least = value;
    }
    return least;
}

int main() {
    std::string line;
    std::getline(std::cin, line);  // what robot, which motors; nothing of it is needed here
    std::cout << "{\"veldrain\":\"program/1\"}" << std::endl;
    double gap = 0.5, change = 0.0;  // to the wall, and how much it grew from one scan to the next, m
    while (std::getline(std::cin, line)) {
        double right = nearest(line, "ranges", 0.0, 0.25);
        if (right >= 0) {
            change = right - gap;
            gap = right;
        }
        double turn = 2.0 * (gap - 0.5) + 20.0 * change;
        char answer[400];
        std::snprintf(answer, sizeof answer,
                      "{\"motors\":{\"front_left\":{\"velocity\":%.17g},\"rear_left\":{\"velocity\":%.17g},"
                      "\"front_right\":{\"velocity\":%.17g},\"rear_right\":{\"velocity\":%.17g}},\"log\":{\"gap\":%.17g}}",
                      6.0 + turn, 6.0 + turn, 6.0 - turn, 6.0 - turn, gap);
        std::cout << answer << std::endl;
    }
}
