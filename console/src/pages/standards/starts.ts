/** What a new document begins with. */
export const starts = {
  policy: `language: 1
policy: my-rules
title: Rules of our own
rules:
  - id: two-time-servers
    title: The clock is set by two servers
    severity: medium
    rationale: Without the right time no log can be held against another.
    check: { count: { of: '@time-server', at-least: 2 } }
    fix: Name a second time server.
`,
  standard: `language: 1
standard: my-class
title: A class of devices
applies: role=access
platform: tidegate
slots:
  own-name: { field: name }
sections:
  - id: identity
    is: at-least
    text: |
      name \${own-name}
`,
}
