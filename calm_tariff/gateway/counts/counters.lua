-- Decide on one call, or settle one, all or nothing (docs/arithmetic.md, section 1).
--
-- KEYS[1] is the clock: a hash of t (the last instant), n (decisions so far) and era. KEYS[2…] hold one count each.
-- All keys carry one hash tag, so that they lie in one slot of a cluster. Numbers stay below 2^53: what could grow
-- larger comes as a pair, an instant with a rest below `calls`, or whole units with millionths.
--
-- ARGV: era, instant (0: this server's own time), then seven fields for each count, by its kind:
--   rate    calls, step µs, step rest, reach µs, reach rest
--   pace    calls, step µs, step rest, longest wait µs
--   window  calls, period µs
--   rolling calls, period µs
--   quota   begin, end, whole, millionths (of the allowance), settles or firm as bits, cost whole, cost millionths
local clock = redis.call('HMGET', KEYS[1], 't', 'era')
if not clock[2] then return {'begin'} end
if clock[2] ~= ARGV[1] then return {'era', clock[2]} end
local t = tonumber(ARGV[2])
-- How long, in ms, a count is kept that decides on nothing more: a day where the instants are the calls' own, because
-- this server's time, by which it forgets, may be far ahead of them.
local spare = 86400000
if t == 0 then
  local now = redis.call('TIME')
  t = tonumber(now[1]) * 1000000 + tonumber(now[2])
  spare = 1000
end
if clock[1] and tonumber(clock[1]) > t then t = tonumber(clock[1]) end

local function text(n) return string.format('%.0f', n) end
local function pair(value)
  local space = string.find(value, ' ', 1, true)
  return tonumber(string.sub(value, 1, space - 1)), tonumber(string.sub(value, space + 1))
end

local befores, afters, lives = {}, {}, {}
local admitted = true
for i = 2, #KEYS do
  local at = 3 + (i - 2) * 8
  local kind = ARGV[at]
  local function field(n) return tonumber(ARGV[at + n]) end
  local key = KEYS[i]
  if kind == 'rate' or kind == 'pace' then
    local calls = field(1)
    local before = redis.call('GET', key)
    befores[i] = before or ''
    local q, r = t, 0
    if before then
      q, r = pair(before)
      if q < t then q, r = t, 0 end
    end
    local ahead = q - t
    if kind == 'rate' then
      if ahead > field(4) or (ahead == field(4) and r > field(5)) or field(4) < 0 then admitted = false end
    elseif ahead > field(4) or (ahead == field(4) and r > 0) then
      admitted = false
    end
    q, r = q + field(2), r + field(3)
    if r >= calls then q, r = q + 1, r - calls end
    afters[i] = text(q) .. ' ' .. text(r)
    lives[i] = math.ceil((q - t) / 1000) + spare
  elseif kind == 'window' then
    local k = math.floor(t / field(2))
    local before = redis.call('GET', key)
    befores[i] = before or ''
    local used = 0
    if before then
      local then_k, count = pair(before)
      if then_k == k then used = count end
    end
    if used + 1 > field(1) then admitted = false end
    afters[i] = text(k) .. ' ' .. text(used + 1)
    lives[i] = math.ceil(field(2) / 1000) + spare
  elseif kind == 'rolling' then
    local first = redis.call('LINDEX', key, 0)
    while first and tonumber(first) <= t - field(2) do
      redis.call('LPOP', key)
      first = redis.call('LINDEX', key, 0)
    end
    local used = redis.call('LLEN', key)
    local frees = first
    if used > field(1) then frees = redis.call('LINDEX', key, used - field(1)) end
    befores[i] = used == 0 and '' or (text(used) .. ' ' .. first .. ' ' .. frees)
    if used + 1 > field(1) then admitted = false end
    lives[i] = math.ceil(field(2) / 1000) + spare
  else
    local begin, stop = field(1), field(2)
    if t < begin or t >= stop then return {'window', text(t)} end
    local before = redis.call('GET', key)
    befores[i] = before or ''
    local whole, part = 0, 0
    if before then
      local place = string.find(before, ' ', 1, true)
      if tonumber(string.sub(before, 1, place - 1)) == begin then
        whole, part = pair(string.sub(before, place + 1))
      end
    end
    local most, most_part, how = field(3), field(4), field(5)
    local spent = whole > most or (whole == most and part >= most_part)
    whole, part = whole + field(6), part + field(7)
    if part >= 1000000 then whole, part = whole + 1, part - 1000000 end
    local over = whole > most or (whole == most and part > most_part)
    if how >= 2 and ((how == 3 and spent) or (how == 2 and over)) then admitted = false end
    afters[i] = text(begin) .. ' ' .. text(whole) .. ' ' .. text(part)
    lives[i] = math.ceil((stop - t) / 1000) + 86400000
  end
end

redis.call('HSET', KEYS[1], 't', text(t))
local order = redis.call('HINCRBY', KEYS[1], 'n', 1)
if admitted then
  for i = 2, #KEYS do
    if afters[i] then
      redis.call('SET', KEYS[i], afters[i], 'PX', text(lives[i]))
    else
      redis.call('RPUSH', KEYS[i], text(t))
      redis.call('PEXPIRE', KEYS[i], text(lives[i]))
    end
  end
end
local reply = {'decided', text(t), order, admitted and 1 or 0}
for i = 2, #KEYS do reply[#reply + 1] = befores[i] end
return reply
