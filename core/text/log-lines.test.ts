import { expect, it } from 'vitest';
import { LOG_FORMS, logLayout, pairsAsJson } from './log-lines';

const known = (lines: readonly string[]) => {
  const found = logLayout(lines);
  return found === undefined || found === 'pairs' ? found : { name: found.form.name, misfits: found.misfits };
};

it.each([
  [
    'RFC 5424, 6.5, example 1',
    `<34>1 2003-10-11T22:14:15.003Z mymachine.example.com su - ID47 - 'su root' failed for lonvick on /dev/pts/8`,
    'syslog (RFC 5424)',
  ],
  [
    'RFC 5424, 6.5, example 3',
    '<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 [exampleSDID@32473 iut="3" eventSource="Application" eventID="1011"] An application event log entry...',
    'syslog (RFC 5424)',
  ],
  [
    'RFC 3164, 5.4, example 1',
    `<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8`,
    'syslog (RFC 3164)',
  ],
  [
    'the common log format',
    '127.0.0.1 - frank [10/Oct/2000:13:55:36 -0700] "GET /apache_pb.gif HTTP/1.0" 200 2326',
    'the common log format of web servers',
  ],
  [
    'the combined log format',
    '127.0.0.1 - frank [10/Oct/2000:13:55:36 -0700] "GET /apache_pb.gif HTTP/1.0" 200 2326 "http://www.example.com/start.html" "Mozilla/4.08 [en] (Win98; I ;Nav)"',
    'the combined log format of web servers',
  ],
])('%s is known, among a few lines of another kind', (_, line, name) => {
  expect(known([...Array.from({ length: 20 }, () => line), 'and another'])).toEqual({ name, misfits: 1 });
});

it('knows pairs, and nothing in prose or in few lines', () => {
  expect(known(['a=1 b=2', 'a=3 b="4 5"', 'a=5 c=d'])).toBe('pairs');
  expect(known(['It rains.', 'It rained = yesterday.', 'x=1'])).toBeUndefined();
  expect(known(['a=1 b=2'])).toBeUndefined();
  expect(pairsAsJson('at=x n=007 big=12 empty= msg="say \\"hi\\"" and more')).toBe(
    '{"at":"x","n":"007","big":12,"empty":null,"msg":"say \\"hi\\"","message":"and more"}',
  );
});

it('each form names its columns once, in a way that is a regular expression here too', () => {
  for (const { pattern } of LOG_FORMS) expect(() => new RegExp(pattern.replaceAll('(?P<', '(?<'), 'u')).not.toThrow();
});

it('a long run of blanks takes no longer than any other line of its length', () => {
  // From each blank anew it would take minutes; the time limit of a test is the judge.
  expect(pairsAsJson(`x${' '.repeat(1_000_000)}=`)).toContain('"message"');
});
