-- Add units to quotas of a call that was let through, in the window it was reserved in.
--
-- KEYS[1] is the clock, KEYS[2…] the quotas' counts. ARGV: era, the call's instant, whole units, millionths (both
-- may be negative). A window that has meanwhile ended keeps nothing to correct.
local era = redis.call('HGET', KEYS[1], 'era')
if era ~= ARGV[1] then return 0 end
local at, whole_more, part_more = tonumber(ARGV[2]), tonumber(ARGV[3]), tonumber(ARGV[4])
for i = 2, #KEYS do
  local before = redis.call('GET', KEYS[i])
  if before then
    local begin, whole, part = string.match(before, '^(%S+) (%S+) (%S+)$')
    if tonumber(begin) <= at then
      whole, part = tonumber(whole) + whole_more, tonumber(part) + part_more
      if part < 0 then whole, part = whole - 1, part + 1000000 end
      if part >= 1000000 then whole, part = whole + 1, part - 1000000 end
      redis.call('SET', KEYS[i], begin .. ' ' .. string.format('%.0f %.0f', whole, part), 'KEEPTTL')
    end
  end
end
return 1
