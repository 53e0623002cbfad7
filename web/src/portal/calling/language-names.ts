/** The languages that a call is written in, by name. */
export const names = [
  "Shell",
  "Python",
  "JavaScript",
  "Go",
  "Java",
  "Kotlin",
  "C#",
  "PHP",
  "PowerShell",
  "Ruby",
  "Rust",
  "Swift",
] as const;

export type Language = (typeof names)[number];
