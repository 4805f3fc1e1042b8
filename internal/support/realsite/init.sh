#!/bin/busybox sh
# The guest's first process: two disks, a network, the guest agent, and the
# program that writes.
/bin/busybox --install -s /bin
export PATH=/bin:/sbin
mount -t proc proc /proc
mount -t sysfs sys /sys
mount -t devtmpfs dev /dev 2>/dev/null
ln -sf /proc/self/mounts /etc/mtab
for m in /modules/*.ko; do insmod "$m" 2>/dev/null; done

arg() { for w in $(cat /proc/cmdline); do case "$w" in "$1"=*) echo "${w#*=}" ;; esac; done; }
hostname "$(arg guest.name)"

# Disks may come late.
n=0
while [ ! -b /dev/vdb ] && [ $n -lt 100 ]; do usleep 100000; n=$((n + 1)); done
mount -t ext4 /dev/vda /a || echo "GUEST cannot mount the first disk"
mount -t ext4 /dev/vdb /b || echo "GUEST cannot mount the last disk"

ip link set lo up
address=$(arg guest.ip)
if [ -n "$address" ] && ip link set eth0 up; then
  ip addr add "$address/24" broadcast + dev eth0
  tell=${address%.*}.255
fi

for p in /sys/class/virtio-ports/*/name; do
  if [ "$(cat "$p" 2>/dev/null)" = org.qemu.guest_agent.0 ]; then
    qemu-ga -d -m virtio-serial -p "/dev/$(basename "$(dirname "$p")")" -t /run -l /var/log/agent.log
  fi
done

# An orderly stop: what the platform's shut-down button and the agent ask for.
trap 'kill $writer; wait $writer; umount /a; umount /b; sync; poweroff -f' USR2 TERM
printf '#!/bin/sh\nkill -USR2 1\n' >/bin/shutdown; chmod 755 /bin/shutdown
ln -sf /bin/shutdown /sbin/shutdown

kestrel-guest -name "$(arg guest.name)" -after "$(arg guest.after)" -every "$(arg guest.every)" -records "$(arg guest.records)" -tell "$tell" /a /b >/dev/console 2>&1 &
writer=$!
while :; do wait; sleep 1; done
